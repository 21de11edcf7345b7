//! GROUPING SETS, ROLLUP and CUBE (clause 7.13): one grouping for each set of keys, over rows that are computed once.

use super::group::Grouping;
use super::scope::Scope;
use super::{Binder, problem::Problem};
use crate::collections::HashMap;
use crate::diagnostic::{Result, Span};
use crate::logical::{Aggregate, ColumnId, CteDefinition, CteId, CteReference, Expr, LogicalPlan, SetOp, SetOperand};
use crate::syntax::ast::{self, GroupingElement};
use crate::types::{SqlType, Value};

/// More sets than this are a mistake: CUBE of twelve columns.
const MOST_SETS: usize = 4096;

impl Binder<'_> {
    /// Binds the keys; `None` when all of them form the one grouping set.
    pub(super) fn grouping_sets(
        &mut self,
        group_by: &ast::GroupBy,
        scope: &Scope,
        keys: &mut Vec<(ColumnId, Expr)>,
    ) -> Result<Option<Vec<Vec<usize>>>> {
        let plain =
            group_by.elements.iter().all(|element| matches!(element, GroupingElement::Set(set) if !set.is_empty()));
        let mut sets = vec![Vec::new()];
        for element in &group_by.elements {
            let parts = self.element_sets(element, scope, keys)?;
            if parts.len().saturating_mul(sets.len()) > MOST_SETS {
                let span = first_span(element);
                self.report(&Problem::TooManySets { most: MOST_SETS }, span);
                return Ok(None);
            }
            // Several elements: every set of the one with every set of the other.
            sets = sets.iter().flat_map(|set| parts.iter().map(|part| union(set, part))).collect();
        }
        if plain {
            return Ok(None);
        }
        if group_by.distinct {
            let mut seen: Vec<Vec<usize>> = Vec::new();
            for mut set in sets {
                set.sort_unstable();
                if !seen.contains(&set) {
                    seen.push(set);
                }
            }
            sets = seen;
        }
        Ok(Some(sets))
    }

    fn element_sets(
        &mut self,
        element: &GroupingElement,
        scope: &Scope,
        keys: &mut Vec<(ColumnId, Expr)>,
    ) -> Result<Vec<Vec<usize>>> {
        let mut bind = |set: &Vec<ast::Expr>| -> Result<Vec<usize>> {
            set.iter().map(|expr| self.key(expr, scope, keys)).collect()
        };
        Ok(match element {
            GroupingElement::Set(set) => vec![bind(set)?],
            GroupingElement::Rollup(parts) => {
                let parts = parts.iter().map(bind).collect::<Result<Vec<_>>>()?;
                let prefix = |count: usize| parts[..count].iter().fold(Vec::new(), |sofar, part| union(&sofar, part));
                (0..=parts.len()).rev().map(prefix).collect()
            }
            GroupingElement::Cube(parts) => {
                let parts = parts.iter().map(bind).collect::<Result<Vec<_>>>()?;
                if parts.len() > 12 {
                    self.report(&Problem::TooManySets { most: MOST_SETS }, first_span(element));
                    return Ok(vec![Vec::new()]);
                }
                let count = 1_usize << parts.len();
                // The first column varies slowest, as in nested ROLLUPs: (a, b), (a), (b), ().
                let chosen = |mask: usize| {
                    let has = |at: &usize| mask & (1 << (parts.len() - 1 - at)) != 0;
                    (0..parts.len()).filter(has).fold(Vec::new(), |sofar, at| union(&sofar, &parts[at]))
                };
                (0..count).rev().map(chosen).collect()
            }
            GroupingElement::Sets(elements) => {
                let mut all = Vec::new();
                for element in elements {
                    all.extend(self.element_sets(element, scope, keys)?);
                }
                all
            }
        })
    }

    /// The grouping with its aggregates, and the columns of GROUPING.
    pub(super) fn grouped(
        &mut self,
        input: LogicalPlan,
        grouping: Grouping,
        aggregates: Vec<(ColumnId, Aggregate)>,
    ) -> LogicalPlan {
        let groupings = std::mem::take(&mut self.level.groupings);
        let Grouping { mut keys, sets, .. } = grouping;
        let Some(sets) = sets else {
            let dependents = std::mem::take(&mut self.level.dependents);
            keys.extend(dependents.into_iter().map(|id| (id, self.column(id, Span::default()))));
            let none = groupings.into_iter().map(|(id, args)| {
                let all: Vec<usize> = (0..keys.len()).collect();
                (id, mask(&args, &keys, &all))
            });
            let none: Vec<_> = none.collect();
            return LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }.project(none);
        };
        let columns: Vec<ColumnId> = keys
            .iter()
            .map(|(id, _)| *id)
            .chain(aggregates.iter().map(|(id, _)| *id))
            .chain(groupings.iter().map(|(id, _)| *id))
            .collect();
        let source = self.shared_rows(input, sets.len());
        let operands = sets
            .iter()
            .map(|set| {
                let (plan, map) = self.use_rows(&source);
                self.one_set(plan, &map, (&keys, set), (&aggregates, &groupings))
            })
            .collect();
        LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns }
    }

    /// Rows that several groupings read: run once, unless they belong to rows around them.
    fn shared_rows(&mut self, input: LogicalPlan, uses: usize) -> Source {
        if !input.free().is_empty() {
            return Source::Copied(Box::new(input));
        }
        let output = input.output();
        self.steps.push(CteDefinition { name: "rows to group".into(), plan: input, output, uses });
        Source::Step(CteId(self.steps.len() - 1))
    }

    fn use_rows(&mut self, source: &Source) -> (LogicalPlan, HashMap<ColumnId, ColumnId>) {
        match source {
            Source::Copied(plan) => plan.copy(&mut self.columns),
            Source::Step(id) => {
                let definition = &self.steps[id.0];
                let columns: Vec<(ColumnId, ColumnId)> =
                    definition.output.iter().map(|column| (self.columns.copy(*column), *column)).collect();
                let map = columns.iter().map(|(new, old)| (*old, *new)).collect();
                (LogicalPlan::CteReference(CteReference { id: *id, name: definition.name.clone(), columns }), map)
            }
        }
    }

    /// One grouping set: its keys and aggregates, NULL for the keys it lacks, the numbers of GROUPING.
    fn one_set(
        &mut self,
        input: LogicalPlan,
        map: &HashMap<ColumnId, ColumnId>,
        (keys, set): (&[(ColumnId, Expr)], &[usize]),
        (aggregates, groupings): Results<'_>,
    ) -> SetOperand {
        let moved = |expr: Expr| expr.map_columns(&mut |id| map.get(&id).copied().unwrap_or(id));
        let mut own = Vec::new();
        let mut computed = Vec::new();
        let mut columns = Vec::new();
        for (at, (id, key)) in keys.iter().enumerate() {
            if set.contains(&at) {
                let expr = moved(key.clone());
                let column =
                    if let crate::logical::ExprKind::Column(id) = expr.kind() { *id } else { self.columns.copy(*id) };
                own.push((column, expr));
                columns.push(column);
            } else {
                let column = self.columns.copy(*id);
                computed.push((column, Expr::literal(Value::Null, key.sql_type(), key.span())));
                columns.push(column);
            }
        }
        let aggregates = aggregates.iter().map(|(id, aggregate)| {
            let Ok(aggregate) = aggregate.clone().map_exprs(&mut |expr| Ok::<_, std::convert::Infallible>(moved(expr)));
            let column = self.columns.copy(*id);
            columns.push(column);
            (column, aggregate)
        });
        let aggregates: Vec<_> = aggregates.collect();
        for (id, args) in groupings {
            let column = self.columns.copy(*id);
            computed.push((column, mask(args, keys, set)));
            columns.push(column);
        }
        let plan = LogicalPlan::Aggregate { input: Box::new(input), keys: own, aggregates }.project(computed);
        SetOperand { plan, columns }
    }

    /// `GROUPING(a, b)`: a binary number with a 1 for each argument that the row's grouping set lacks (clause 6.9).
    pub(super) fn grouping_call(&mut self, args: Vec<Expr>, span: Span) -> Expr {
        if let Some((id, _)) = self
            .level
            .groupings
            .iter()
            .find(|(_, known)| known.len() == args.len() && known.iter().zip(&args).all(|(a, b)| a.same_as(b)))
        {
            return Expr::column(*id, SqlType::Integer, span);
        }
        let id = self.new_column(self.text(span), SqlType::Integer);
        self.level.groupings.push((id, args));
        Expr::column(id, SqlType::Integer, span)
    }

    /// Every argument of GROUPING must be grouped by.
    pub(super) fn check_groupings(&mut self, grouping: Option<&Grouping>) {
        for (_, args) in self.level.groupings.clone() {
            for arg in args {
                let known = grouping.is_some_and(|grouping| grouping.keys.iter().any(|(_, key)| key.same_as(&arg)));
                if !known && arg.sql_type() != SqlType::Null {
                    let text = self.text(arg.span()).to_owned();
                    self.report(&Problem::GroupingArgument { text }, arg.span());
                }
            }
        }
    }
}

enum Source {
    Step(CteId),
    Copied(Box<LogicalPlan>),
}

/// Aggregates and calls of GROUPING with the columns that hold their results.
type Results<'g> = (&'g [(ColumnId, Aggregate)], &'g [(ColumnId, Vec<Expr>)]);

fn union(a: &[usize], b: &[usize]) -> Vec<usize> {
    let mut all = a.to_vec();
    all.extend(b.iter().filter(|key| !a.contains(key)));
    all
}

fn mask(args: &[Expr], keys: &[(ColumnId, Expr)], set: &[usize]) -> Expr {
    let lacks = |arg: &Expr| {
        let key = keys.iter().position(|(_, key)| key.same_as(arg));
        i64::from(key.is_none_or(|key| !set.contains(&key)))
    };
    let value = args.iter().fold(0, |bits, arg| bits << 1 | lacks(arg));
    let span = args.first().map_or_else(Span::default, Expr::span);
    Expr::literal(Value::Integer(value), SqlType::Integer, span)
}

fn first_span(element: &GroupingElement) -> Span {
    let mut span = Span::default();
    let mut found = false;
    element.for_each_expr(&mut |expr| {
        if !found {
            span = expr.span;
            found = true;
        }
    });
    span
}
