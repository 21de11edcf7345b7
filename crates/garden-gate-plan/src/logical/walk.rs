//! Walks over plans: the expressions of a node, the columns it defines and those it takes from outside.

use super::plan::AnyTest;
use super::{BinaryJoin, ColumnId, Columns, CteReference, Expand, Expr, LogicalPlan, Nearest, SetOperand, SortKey};
use crate::collections::{HashMap, HashSet};

impl LogicalPlan {
    /// Calls `visit` for each expression of this node alone.
    pub fn for_each_expr<'p>(&'p self, mut visit: impl FnMut(&'p Expr)) {
        match self {
            Self::OneRow
            | Self::Empty(_)
            | Self::Distinct { .. }
            | Self::Limit { .. }
            | Self::SetOperation { .. }
            | Self::CteReference(_)
            | Self::Recursion(_)
            | Self::RecursionInput(_) => {}
            Self::Scan(scan) => scan.filter.iter().for_each(visit),
            Self::Values { rows, .. } => rows.iter().flatten().for_each(visit),
            Self::Filter { conjuncts, .. } | Self::InnerJoin { conjuncts, .. } => conjuncts.iter().for_each(visit),
            Self::Project { computed, .. } => computed.iter().for_each(|(_, expr)| visit(expr)),
            Self::Join(join) => join.exprs().for_each(visit),
            Self::Aggregate { keys, aggregates, .. } => {
                keys.iter().for_each(|(_, key)| visit(key));
                aggregates.iter().flat_map(|(_, aggregate)| aggregate.exprs()).for_each(visit);
            }
            Self::Window { partition, order, calls, .. } => {
                partition.iter().chain(order.iter().map(|key| &key.expr)).for_each(&mut visit);
                calls.iter().flat_map(|(_, call)| call.exprs()).for_each(visit);
            }
            Self::Sort { keys, .. } => keys.iter().for_each(|key| visit(&key.expr)),
            Self::Expand { expand, .. } => match expand {
                Expand::Series(bounds) => bounds.iter().for_each(visit),
                Expand::Unnest(arrays) => arrays.iter().for_each(visit),
            },
        }
    }

    /// The same node with each of its own expressions changed.
    pub fn map_exprs<E>(self, change: &mut impl FnMut(Expr) -> Result<Expr, E>) -> Result<Self, E> {
        let mut pairs = |pairs: Vec<(ColumnId, Expr)>| -> Result<Vec<(ColumnId, Expr)>, E> {
            pairs.into_iter().map(|(id, expr)| Ok((id, change(expr)?))).collect()
        };
        Ok(match self {
            Self::Project { input, computed } => Self::Project { input, computed: pairs(computed)? },
            Self::Aggregate { input, keys, aggregates } => {
                let keys = pairs(keys)?;
                let aggregates = aggregates.into_iter().map(|(id, aggregate)| Ok((id, aggregate.map_exprs(change)?)));
                Self::Aggregate { input, keys, aggregates: aggregates.collect::<Result<_, E>>()? }
            }
            Self::Scan(mut scan) => {
                scan.filter = map_all(scan.filter, change)?;
                Self::Scan(scan)
            }
            Self::Values { columns, rows } => {
                let rows = rows.into_iter().map(|row| map_all(row, change)).collect::<Result<_, E>>()?;
                Self::Values { columns, rows }
            }
            Self::Filter { input, conjuncts } => Self::Filter { input, conjuncts: map_all(conjuncts, change)? },
            Self::InnerJoin { inputs, conjuncts } => Self::InnerJoin { inputs, conjuncts: map_all(conjuncts, change)? },
            Self::Join(join) => {
                let BinaryJoin { on, any, guard, nearest, .. } = *join;
                let on = map_all(on, change)?;
                let any = match any {
                    Some(any) => {
                        let (left, right) = (map_all(any.left, change)?, map_all(any.right, change)?);
                        Some(AnyTest { op: any.op, left, right })
                    }
                    None => None,
                };
                let guard = map_all(guard, change)?;
                let nearest = match nearest {
                    Some(nearest) => Some(Nearest { order: SortKey::map_all(nearest.order, change)?, ..nearest }),
                    None => None,
                };
                Self::Join(Box::new(BinaryJoin { on, any, guard, nearest, ..*join }))
            }
            Self::Window { input, partition, order, calls } => {
                let partition = map_all(partition, change)?;
                let order = SortKey::map_all(order, change)?;
                let calls = calls.into_iter().map(|(id, call)| Ok((id, call.map_exprs(change)?)));
                Self::Window { input, partition, order, calls: calls.collect::<Result<_, E>>()? }
            }
            Self::Sort { input, keys } => Self::Sort { input, keys: SortKey::map_all(keys, change)? },
            Self::Expand { input, expand, columns, ordinality } => {
                let expand = match expand {
                    Expand::Series(bounds) => {
                        let [from, to, step] = *bounds;
                        Expand::Series(Box::new([change(from)?, change(to)?, change(step)?]))
                    }
                    Expand::Unnest(arrays) => Expand::Unnest(map_all(arrays, change)?),
                };
                Self::Expand { input, expand, columns, ordinality }
            }
            other => other,
        })
    }

    /// The columns that this node itself makes, those of its inputs aside.
    fn defines(&self) -> Vec<ColumnId> {
        let firsts = |pairs: &[(ColumnId, Expr)]| pairs.iter().map(|(id, _)| *id).collect::<Vec<_>>();
        match self {
            Self::Empty(columns) | Self::Values { columns, .. } | Self::SetOperation { columns, .. } => columns.clone(),
            Self::Scan(scan) => scan.columns.iter().map(|(id, _)| *id).collect(),
            Self::Project { computed, .. } => firsts(computed),
            Self::Join(join) => join.mark.into_iter().collect(),
            Self::Aggregate { keys, aggregates, .. } => {
                keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)).collect()
            }
            Self::Window { calls, .. } => calls.iter().map(|(id, _)| *id).collect(),
            Self::Expand { columns, ordinality, .. } => columns.iter().copied().chain(*ordinality).collect(),
            Self::CteReference(step) => step.columns.iter().map(|(id, _)| *id).collect(),
            Self::Recursion(recursion) => recursion.members.iter().flat_map(|m| m.columns.clone()).collect(),
            Self::RecursionInput(input) => input.columns.clone(),
            Self::OneRow
            | Self::Filter { .. }
            | Self::InnerJoin { .. }
            | Self::Distinct { .. }
            | Self::Sort { .. }
            | Self::Limit { .. } => Vec::new(),
        }
    }

    /// The columns it uses and does not make: those of a query around it, in order of first use.
    pub fn free(&self) -> Vec<ColumnId> {
        let mut defined = HashSet::default();
        let mut used = Vec::new();
        self.walk(&mut |node| {
            defined.extend(node.defines());
            node.for_each_expr(|expr| used.extend(expr.columns()));
        });
        let mut seen = HashSet::default();
        used.retain(|id| !defined.contains(id) && seen.insert(*id));
        used
    }

    /// Whether any expression in it can fail.
    pub fn can_raise(&self) -> bool {
        let mut found = false;
        self.walk(&mut |node| node.for_each_expr(|expr| found |= expr.can_raise()));
        found
    }

    /// The same plan with every column, made or used, replaced.
    pub fn map_columns(self, change: &mut impl FnMut(ColumnId) -> ColumnId) -> Self {
        let Ok(plan) = self.map_inputs(&mut |input| Ok::<_, std::convert::Infallible>(input.map_columns(change)));
        let Ok(plan) = plan.map_exprs(&mut |expr| Ok::<_, std::convert::Infallible>(expr.map_columns(change)));
        plan.map_own_columns(change)
    }

    fn map_own_columns(self, change: &mut impl FnMut(ColumnId) -> ColumnId) -> Self {
        let mut all = |columns: Vec<ColumnId>| columns.into_iter().map(&mut *change).collect::<Vec<_>>();
        match self {
            Self::Empty(columns) => Self::Empty(all(columns)),
            Self::Values { columns, rows } => Self::Values { columns: all(columns), rows },
            Self::Distinct { input, columns } => Self::Distinct { input, columns: all(columns) },
            Self::RecursionInput(mut input) => {
                input.columns = all(input.columns);
                Self::RecursionInput(input)
            }
            Self::SetOperation { op, all: keep, operands, columns } => {
                let columns = all(columns);
                Self::SetOperation { op, all: keep, operands: map_operands(operands, change), columns }
            }
            Self::Scan(mut scan) => {
                scan.columns.iter_mut().for_each(|(id, _)| *id = change(*id));
                Self::Scan(scan)
            }
            Self::Project { input, mut computed } => {
                computed.iter_mut().for_each(|(id, _)| *id = change(*id));
                Self::Project { input, computed }
            }
            Self::Join(mut join) => {
                join.mark = join.mark.map(change);
                Self::Join(join)
            }
            Self::Aggregate { input, mut keys, mut aggregates } => {
                keys.iter_mut().for_each(|(id, _)| *id = change(*id));
                aggregates.iter_mut().for_each(|(id, _)| *id = change(*id));
                Self::Aggregate { input, keys, aggregates }
            }
            Self::Window { input, partition, order, mut calls } => {
                calls.iter_mut().for_each(|(id, _)| *id = change(*id));
                Self::Window { input, partition, order, calls }
            }
            Self::Expand { input, expand, columns, ordinality } => {
                let columns = all(columns);
                Self::Expand { input, expand, columns, ordinality: ordinality.map(change) }
            }
            Self::CteReference(CteReference { id, name, mut columns }) => {
                columns.iter_mut().for_each(|(here, _)| *here = change(*here));
                Self::CteReference(CteReference { id, name, columns })
            }
            Self::Recursion(mut recursion) => {
                for member in &mut recursion.members {
                    member.columns.iter_mut().for_each(|id| *id = change(*id));
                    member.anchors = map_operands(std::mem::take(&mut member.anchors), change);
                    member.branches = map_operands(std::mem::take(&mut member.branches), change);
                }
                Self::Recursion(recursion)
            }
            other @ (Self::OneRow
            | Self::Filter { .. }
            | Self::InnerJoin { .. }
            | Self::Sort { .. }
            | Self::Limit { .. }) => other,
        }
    }

    /// A copy that makes columns of its own, and which column of the copy stands for which of the original.
    ///
    /// A recursion in it keeps its id: the copy must run apart from the original.
    pub fn copy(&self, columns: &mut Columns) -> (Self, HashMap<ColumnId, ColumnId>) {
        let mut map = HashMap::default();
        self.walk(&mut |node| {
            for id in node.defines() {
                map.entry(id).or_insert_with(|| columns.copy(id));
            }
        });
        let plan = self.clone().map_columns(&mut |id| map.get(&id).copied().unwrap_or(id));
        (plan, map)
    }
}

fn map_all<E>(exprs: Vec<Expr>, change: &mut impl FnMut(Expr) -> Result<Expr, E>) -> Result<Vec<Expr>, E> {
    exprs.into_iter().map(change).collect()
}

fn map_operands(operands: Vec<SetOperand>, change: &mut impl FnMut(ColumnId) -> ColumnId) -> Vec<SetOperand> {
    let operand = |mut operand: SetOperand| {
        operand.columns.iter_mut().for_each(|id| *id = change(*id));
        operand
    };
    operands.into_iter().map(operand).collect()
}
