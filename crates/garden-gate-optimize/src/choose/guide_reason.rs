//! Why a plan is not as GUIDE demands, in terms of the query's own tables and predicates.

use super::guide_compliance::{joining, method};
use crate::logical::{AnyTest, Columns, CompareOp, DirectiveKind, Expr, GuidedJoin, JoinKind, Printer};
use crate::physical::{JoinMethod, JoinRange, Operator, PhysicalPlan};

/// Why a plan does not do what a directive demands, in one sentence.
pub(super) fn reason(kind: &DirectiveKind, plan: &PhysicalPlan, (columns, limit): (&Columns, usize)) -> String {
    match kind {
        DirectiveKind::Join { tables, by } => join_reason(plan, columns, tables, *by),
        DirectiveKind::Read { table, .. } => read_reason(plan, columns, table, kind),
        DirectiveKind::Workers(_) => format!("the session has {limit} workers; SET workers changes that"),
        DirectiveKind::KeepOrder | DirectiveKind::Expect { .. } => "the plan has no such place".into(),
    }
}

/// The join at which two tables meet, as far as a reason goes.
struct Met<'n> {
    kind: JoinKind,
    any: Option<&'n AnyTest>,
    /// What is no equality.
    residual: Vec<Expr>,
    has_equality: bool,
    /// Whether the first of the tables is on the side whose rows are gone through.
    leads: bool,
}

fn join_reason(plan: &PhysicalPlan, columns: &Columns, tables: &[String; 2], by: GuidedJoin) -> String {
    let [a, b] = tables;
    let Some((node, outer, inner)) = joining((&plan.root, columns), tables) else {
        return apart(plan, columns, tables);
    };
    let (kind, any, residual, mirrored, keys) = if let Operator::Join(spec) = &node.operator {
        let ranges = spec.ranges.iter().map(JoinRange::condition);
        let residual = ranges.chain(spec.residual.iter().cloned()).collect();
        (spec.kind, spec.any.as_ref(), residual, spec.mirrored, spec.keys.len())
    } else if let Operator::IndexJoin(join) = &node.operator {
        (join.kind, None, join.residual.clone(), false, join.keys.len())
    } else {
        return "the plan has no such join".into();
    };
    let leading = if mirrored { &inner } else { &outer };
    let met = Met {
        kind,
        any,
        residual,
        has_equality: keys > 0 || any.is_some_and(|any| any.op == CompareOp::Equal),
        leads: leading.iter().any(|name| name.eq_ignore_ascii_case(a)),
    };
    if method(node) == JoinMethod::Nearest {
        return format!(
            "each row of {} takes the first of its matches in an order: only a nearest join does that",
            if met.leads { a } else { b }
        );
    }
    match by {
        GuidedJoin::Hash if !met.has_equality => met.needs("a hash join", "equality", (a, b), columns),
        GuidedJoin::Merge if !met.has_equality => met.needs("a merge join", "equality", (a, b), columns),
        GuidedJoin::Merge if any.is_none() && kind == JoinKind::Mark => {
            "a merge join can't give every row with whether it has a match, as this mark join must; write BY HASH"
                .into()
        }
        GuidedJoin::Merge if any.is_some() => {
            format!("a merge join can't tell UNKNOWN from FALSE, as this {} join must; write BY HASH", kind.name())
        }
        GuidedJoin::Merge => "the rows of a round of a recursion do not come sorted".into(),
        GuidedJoin::Range if any.is_some() => {
            format!("a range join can't tell UNKNOWN from FALSE, as this {} join must", kind.name())
        }
        GuidedJoin::Range => met.needs("a range join", "inequality", (a, b), columns),
        GuidedJoin::NestedLoop if !met.leads => met.wrong_way((a, b)),
        GuidedJoin::NestedLoop if any.is_some() => format!(
            "a nested loop can't tell which comparison was UNKNOWN, as this {} join must; write BY HASH",
            kind.name()
        ),
        GuidedJoin::Hash | GuidedJoin::NestedLoop => {
            format!("this {} join has to be computed by {}", kind.name(), method(node))
        }
    }
}

impl Met<'_> {
    fn needs(&self, method: &str, condition: &str, (a, b): (&String, &String), columns: &Columns) -> String {
        let printer = Printer::new(columns);
        let comparison = self.any.and_then(AnyTest::comparison);
        if condition == "inequality" && self.residual.is_empty() && self.has_equality {
            return format!(
                "{method} needs an {condition} between {a} and {b}; there are only equalities: write BY HASH"
            );
        }
        let conditions = match (comparison, self.residual.as_slice()) {
            // Of ALL the opposite comparison is looked for: a row that meets it is lost.
            (Some(comparison), _) => format!("{} is none", printer.expr(&comparison)),
            (None, []) => "there is no condition between them".to_owned(),
            (None, residual) => format!("{} is none", printer.conjunction(residual)),
        };
        format!("{method} needs an {condition} between {a} and {b}; {conditions}")
    }

    /// Why a nested loop does not go through the first of the tables.
    fn wrong_way(&self, (a, b): (&String, &String)) -> String {
        let written = match (self.has_equality, self.any) {
            (true, None) => format!("JOIN ({b}, {a}), or BY HASH"),
            (false, _) => format!("JOIN ({b}, {a})"),
            (true, Some(_)) => "BY HASH".to_owned(),
        };
        let reason = match self.kind {
            JoinKind::Left => format!("a nested loop through {a} can't give the rows of {b} that no row of {a} meets"),
            JoinKind::Semi => format!(
                "a nested loop through {a} would give a row of {b} as often as rows of {a} meet it, and this semi join gives it once"
            ),
            JoinKind::Anti => {
                format!(
                    "a nested loop through {a} can't tell which rows of {b} no row of {a} meets, as this anti join must"
                )
            }
            JoinKind::Mark => {
                format!(
                    "a nested loop through {a} can't tell for each row of {b} whether a row of {a} meets it, as this mark join must"
                )
            }
            JoinKind::Single => format!("each row of {b} has one value from {a}, so that the loop goes through {b}"),
            JoinKind::Inner | JoinKind::Full => format!("the loop of this {} join goes through {b}", self.kind.name()),
        };
        format!("{reason}; write {written}")
    }
}

/// Why two tables do not meet in a join.
fn apart(plan: &PhysicalPlan, columns: &Columns, tables: &[String; 2]) -> String {
    let [a, b] = tables;
    let mut names = Vec::new();
    plan.root.walk(&mut |node| {
        names.extend(super::join_alternatives::names_at(node, columns).into_iter().map(str::to_lowercase));
    });
    let gone = tables.iter().find(|table| !names.contains(&table.to_lowercase()));
    match gone {
        Some(gone) => format!("the plan does not read {gone}: a rule has left it out, or none of its columns is used"),
        None => format!("no join of this plan has {a} on one side and {b} on the other"),
    }
}

/// The index is missing, or there is no usable predicate on the leading column.
fn read_reason(plan: &PhysicalPlan, columns: &Columns, table: &str, kind: &DirectiveKind) -> String {
    let mut scan = None;
    plan.root.walk(&mut |node| {
        if let Operator::Scan { scan: own, access, .. } = &node.operator
            && own.alias.eq_ignore_ascii_case(table)
        {
            scan = Some((own.as_ref(), access.as_ref().map_or(&[][..], |access| &access.bounds)));
        } else if let Operator::IndexJoin(join) = &node.operator
            && join.scan.alias.eq_ignore_ascii_case(table)
        {
            scan = Some((&join.scan, &join.residual));
        }
    });
    let (Some((scan, bounds)), DirectiveKind::Read { by: crate::logical::GuidedRead::Indexes(indexes), .. }) =
        (scan, kind)
    else {
        return "the table is looked up by an index for each row of another".into();
    };
    let known: Vec<&str> = scan.indexes.iter().map(|index| index.name.as_str()).collect();
    if !indexes.iter().all(|index| known.iter().any(|known| known.eq_ignore_ascii_case(index))) {
        return if known.is_empty() {
            format!("{table} has no index")
        } else {
            format!("{table} has no such index; it has {}", known.join(", "))
        };
    }
    let own = [bounds, scan.filter.as_slice()].concat();
    let conditions = if own.is_empty() {
        format!("{table} has no condition of its own")
    } else {
        format!("there is only {}", Printer::new(columns).conjunction(&own))
    };
    format!(
        "there is no usable predicate on the leading column, or between what it lies, and no order it has is asked for; {conditions}"
    )
}
