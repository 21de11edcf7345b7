//! How a table is read: from one end to the other, or by one of its indexes.

use super::build::{Builder, make, only, with_columns};
use super::cost;
use super::counted::CountedAccess;
use crate::catalog::{SEGMENT_ROWS, TableKind};
use crate::diagnostic::Result;
use crate::estimate::{after_prefix, table_rows};
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, GuidedRead, LogicalPlan, Scan, ScanIndex, SortKey, Test};
use crate::physical::{
    Bound, Candidate, Considered, Decision, IndexAccess, IndexUse, KeyOrder, Node, Operator, OperatorName, Probe,
};
use crate::types::{Cost, Estimate, SqlType, Value, approximate};

/// Values of IN lists together, at most, that an index is looked up for.
const MOST_VALUES: usize = 1000;

/// A way to read a table, and what is left to be tested.
pub(super) struct Path {
    pub(super) access: Option<IndexAccess>,
    pub(super) rest: Vec<Expr>,
    pub(super) columns: Vec<(ColumnId, usize)>,
    /// Rows that are read, before `rest` is tested.
    pub(super) read: Estimate,
    /// Whether an index was asked for them.
    pub(super) is_counted: bool,
    pub(super) own: Cost,
}

impl Path {
    fn name(&self, kind: TableKind) -> String {
        match &self.access {
            None if kind == TableKind::File => OperatorName::FileScan.name().into(),
            None => OperatorName::TableScan.name().into(),
            Some(access) => name_of(access),
        }
    }
}

/// What a way to read by an index is called among the candidates.
pub(super) fn name_of(access: &IndexAccess) -> String {
    format!("{} {}", access.operator(), access.index_use())
}

impl Path {
    fn is_as(&self, guided: Option<&GuidedRead>) -> bool {
        allows(guided, self.access.as_ref().map(IndexAccess::index_use).as_ref())
    }
}

/// Whether reading by this index, or without one, is what is demanded.
pub(super) fn allows(guided: Option<&GuidedRead>, index: Option<&IndexUse>) -> bool {
    match (guided, index) {
        (None, _) | (Some(GuidedRead::Scan), None) => true,
        (Some(GuidedRead::Indexes(wanted)), Some(index)) => {
            wanted.len() == index.names().len() && wanted.iter().all(|name| index.contains(name))
        }
        (Some(GuidedRead::Scan), Some(_)) | (Some(GuidedRead::Indexes(_)), None) => false,
    }
}

impl Builder<'_> {
    /// The cheapest way to read a table: the whole of it, by one of its indexes, or by several together.
    pub(super) fn scan(&mut self, scan: Scan, required: &[ColumnId]) -> Result<Node> {
        let mut paths = vec![self.whole(&scan, required)?];
        let mut impossible = Vec::new();
        for index in &scan.indexes {
            match self.by_index(&scan, index, required)? {
                Some(path) => paths.push(path),
                None => impossible.push(index.name.clone()),
            }
        }
        paths.extend(self.by_several(&scan, required)?);
        paths.sort_by(|a, b| a.own.0.total_cmp(&b.own.0));
        let guided = self.guide.reading(&scan.alias);
        let chosen = paths.iter().position(|path| path.is_as(guided)).unwrap_or(0);
        let mut candidates: Vec<Candidate> = Vec::new();
        for (place, path) in paths.iter().enumerate() {
            let (choice, cost) = (path.name(scan.kind), Some(path.own.0));
            candidates.push(Candidate { choice, cost, chosen: place == chosen, reason: None });
        }
        candidates.extend(impossible.into_iter().map(|name| Candidate {
            choice: format!("index {name}"),
            cost: None,
            chosen: false,
            reason: Some("there is no usable predicate on the leading column, or between what it lies".into()),
        }));
        self.considered.push(Considered { decision: Decision::Read(scan.alias.clone()), candidates });
        let rows = match self.guide.expected(&scan.alias) {
            Some(expected) => Estimate(expected),
            None => {
                let counted = |path: &'_ &Path| path.is_counted;
                let counts = paths.iter().filter(counted).filter_map(|path| {
                    Some(CountedAccess { access: path.access.as_ref()?, rows: path.read, rest: &path.rest })
                });
                let counts: Vec<CountedAccess<'_>> = counts.collect();
                self.rows_left(&scan, &counts, required)?
            }
        };
        self.estimator.narrow(&scan, rows);
        Ok(node(scan, paths.swap_remove(chosen), rows, required))
    }

    /// From one end to the other.
    fn whole(&self, scan: &Scan, required: &[ColumnId]) -> Result<Path> {
        let all = table_rows(scan.source.rows());
        let columns = read_columns(scan, required, &scan.filter);
        let read = if all.0 > approximate(2 * SEGMENT_ROWS) { self.parts_read(scan, all)? } else { all };
        let own = cost::scan(read, columns.len()) + cost::work(read, &scan.filter);
        Ok(Path { access: None, rest: scan.filter.clone(), columns, read, is_counted: false, own })
    }

    /// Rows of the parts that are read when others are skipped: those that lie together, and on either side half a part.
    fn parts_read(&self, scan: &Scan, all: Estimate) -> Result<Estimate> {
        let mut by_column: Vec<(ColumnId, Vec<Expr>)> = Vec::new();
        for term in &scan.filter {
            let Some(id) = self.estimator.stored().together(term)? else { continue };
            match by_column.iter_mut().find(|(known, _)| *known == id) {
                Some((_, terms)) => terms.push(term.clone()),
                None => by_column.push((id, vec![term.clone()])),
            }
        }
        let mut least = 1.0_f64;
        for (_, terms) in &by_column {
            least = least.min(self.estimator.stored().conjunction(terms)?.share());
        }
        Ok(Estimate((all.0 * least + approximate(SEGMENT_ROWS)).min(all.0)))
    }

    /// By an index that conditions bound.
    fn by_index(&self, scan: &Scan, index: &ScanIndex, required: &[ColumnId]) -> Result<Option<Path>> {
        let access = bounded(scan, index);
        if access.0.bounds.is_empty() {
            return Ok(None);
        }
        self.path(scan, access, required).map(Some)
    }

    fn path(&self, scan: &Scan, (mut access, rest): (IndexAccess, Vec<Expr>), required: &[ColumnId]) -> Result<Path> {
        let all = table_rows(scan.source.rows());
        let columns = read_columns(scan, required, &rest);
        let held = access.index.holds();
        // Rows of several parts in one order are gathered one by one.
        let is_run = access.order.is_none() || all.0 <= approximate(SEGMENT_ROWS);
        access.only = is_run && columns.iter().all(|(_, place)| held.contains(place));
        let share =
            if access.bounds.is_empty() { 1.0 } else { self.estimator.stored().conjunction(&access.bounds)?.share() };
        let counted = self.counted(scan, &access)?;
        let mut read = match counted {
            _ if access.bounds.is_empty() => all,
            Some(rows) if self.guide.expected(&scan.alias).is_none() => rows,
            _ => self.expected_of(scan, Estimate(all.0 * share))?,
        };
        if let Some(KeyOrder { first: Some(first), .. }) = access.order {
            read = Estimate(read.0.min(approximate(first)));
        }
        let lookups: usize = access.equal.iter().map(Probe::values).product();
        let value = (columns.len(), access.only, self.lie_together(scan, &access.index)?);
        let own = cost::index_read(all, (lookups, access.order.is_some()), read, value);
        let own = Cost(own.0 * self.factors.index) + cost::work(read, &rest);
        Ok(Path { access: Some(access), rest, columns, read, is_counted: counted.is_some(), own })
    }

    /// Rows that an index leads to; when a guide says how many are left in the end, in the same proportion to these.
    pub(super) fn expected_of(&self, scan: &Scan, read: Estimate) -> Result<Estimate> {
        let Some(expected) = self.guide.expected(&scan.alias) else { return Ok(read) };
        let all = table_rows(scan.source.rows()).0;
        let left = all * self.estimator.stored().scan(scan)?;
        let scaled = if left > 0.0 { read.0 * expected / left } else { expected };
        Ok(Estimate(scaled.max(expected).min(all)))
    }

    /// Whether rows that are neighbours in an index are so in the table.
    pub(super) fn lie_together(&self, scan: &Scan, index: &ScanIndex) -> Result<bool> {
        let Some(Some(key)) = index.keys_over(&scan.columns).into_iter().next() else { return Ok(false) };
        let ExprKind::Column(id) = key.expr.kind() else { return Ok(false) };
        self.estimator.stored().is_in_order(*id)
    }

    /// A scan, or a projection of one, whose rows come in the order of `keys` because an index has it; `first` is how many are wanted.
    pub(super) fn in_order(
        &mut self,
        input: &LogicalPlan,
        keys: &[SortKey],
        first: Option<u64>,
        required: &[ColumnId],
    ) -> Result<Option<Node>> {
        match input {
            LogicalPlan::Scan(scan) => {
                let mut best: Option<Path> = None;
                let guided = self.guide.reading(&scan.alias);
                for index in
                    scan.indexes.iter().filter(|index| allows(guided, Some(&IndexUse::One(index.name.clone()))))
                {
                    let (mut access, rest) = bounded(scan, index);
                    let Some(backwards) = order_of(scan, index, access.equal.len(), single(&access), keys) else {
                        continue;
                    };
                    // Rows that a condition takes away are not counted by the index.
                    access.order = Some(KeyOrder { backwards, first: first.filter(|_| rest.is_empty()) });
                    let path = self.path(scan, (access, rest), required)?;
                    if best.as_ref().is_none_or(|best| path.own.0 < best.own.0) {
                        best = Some(path);
                    }
                }
                let Some(path) = best else { return Ok(None) };
                let share = self.estimator.stored().conjunction(&path.rest)?.share();
                let rows = self.guide.expected(&scan.alias).map_or(Estimate(path.read.0 * share), Estimate);
                Ok(Some(node(scan.clone(), path, rows, required)))
            }
            LogicalPlan::Project { input, computed } => {
                let uses =
                    |key: &SortKey| key.expr.columns().iter().any(|id| computed.iter().any(|(made, _)| made == id));
                if keys.iter().any(uses) {
                    return Ok(None);
                }
                let kept: Vec<(ColumnId, Expr)> =
                    computed.iter().filter(|(id, _)| required.contains(id)).cloned().collect();
                let below = with_columns(required, kept.iter().map(|(_, expr)| expr));
                let Some(input) = self.in_order(input, keys, first, &below)? else { return Ok(None) };
                if kept.is_empty() {
                    return Ok(Some(input));
                }
                Ok(Some(super::build::projected(input, kept, required)))
            }
            LogicalPlan::Aggregate { input, keys: groups, aggregates } => {
                self.groups_in_order((input, groups, aggregates), keys, required)
            }
            LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::Filter { .. }
            | LogicalPlan::InnerJoin { .. }
            | LogicalPlan::Join(_)
            | LogicalPlan::Window { .. }
            | LogicalPlan::Distinct { .. }
            | LogicalPlan::Sort { .. }
            | LogicalPlan::Limit { .. }
            | LogicalPlan::SetOperation { .. }
            | LogicalPlan::Expand { .. }
            | LogicalPlan::CteReference(_)
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_) => Ok(None),
        }
    }

    /// The orders in which an index gives the rows of a table with those of each group beside one another, the groups being made by these keys.
    pub(super) fn orders_of_groups(&self, input: &LogicalPlan, keys: &[&Expr]) -> Vec<Vec<SortKey>> {
        if let LogicalPlan::Scan(scan) = input {
            let order = |index: &ScanIndex| {
                let (access, _) = bounded(scan, index);
                let own = index.keys_over(&scan.columns);
                let own: Option<Vec<SortKey>> = own.into_iter().skip(access.equal.len()).take(keys.len()).collect();
                let own = own.filter(|own| own.len() == keys.len() && single(&access))?;
                keys.iter().all(|key| own.iter().any(|own| is_key(key, &own.expr))).then_some(own)
            };
            scan.indexes.iter().filter_map(order).collect()
        } else if let LogicalPlan::Project { input, computed } = input {
            let made = |key: &&Expr| key.columns().iter().any(|id| computed.iter().any(|(made, _)| made == id));
            if keys.iter().any(made) { Vec::new() } else { self.orders_of_groups(input, keys) }
        } else {
            Vec::new()
        }
    }
}

fn node(scan: Scan, path: Path, rows: Estimate, required: &[ColumnId]) -> Node {
    let output = only(path.columns.iter().map(|(id, _)| *id), required);
    let scan = Box::new(Scan { filter: path.rest, ..scan });
    let operator = Operator::Scan { scan, read: path.columns, access: path.access.map(Box::new) };
    make(operator, Vec::new(), output, rows, path.own)
}

/// The columns that a read gives or tests.
pub(super) fn read_columns(scan: &Scan, required: &[ColumnId], filter: &[Expr]) -> Vec<(ColumnId, usize)> {
    let needed = with_columns(required, filter);
    scan.columns.iter().copied().filter(|(id, _)| needed.contains(id)).collect()
}

/// Whether only one value is looked for in each leading key, so that the rows keep the order of the next.
fn single(access: &IndexAccess) -> bool {
    access.equal.iter().all(|probe| probe.values() == 1)
}

/// What the conditions of a scan say of the keys of an index, and the conditions that are still to be tested.
pub(super) fn bounded(scan: &Scan, index: &ScanIndex) -> (IndexAccess, Vec<Expr>) {
    let mut access = IndexAccess {
        index: index.clone(),
        equal: Vec::new(),
        low: None,
        high: None,
        bounds: Vec::new(),
        only: false,
        order: None,
        others: None,
    };
    let mut rest = scan.filter.clone();
    let mut values = 1;
    for key in index.keys_over(&scan.columns) {
        let Some(key) = key else { break };
        let found = scan.filter.iter().find_map(|term| Some((term, equality(term, &key.expr)?)));
        if let Some((term, probe)) = found.filter(|(_, probe)| values * probe.values() <= MOST_VALUES) {
            values *= probe.values();
            if is_exact(&probe, key.expr.sql_type()) {
                rest.retain(|other| !other.same_as(term));
            }
            access.equal.push(probe);
            access.bounds.push(term.clone());
            continue;
        }
        for term in &scan.filter {
            let Some((op, value)) = comparison(term, &key.expr) else { continue };
            let inclusive = matches!(op, CompareOp::LessOrEqual | CompareOp::GreaterOrEqual);
            let is_low = matches!(op, CompareOp::Greater | CompareOp::GreaterOrEqual);
            let side = if is_low { &mut access.low } else { &mut access.high };
            if op == CompareOp::Equal || op == CompareOp::NotEqual || side.is_some() {
                continue;
            }
            if holds_all(value.sql_type(), key.expr.sql_type()) {
                rest.retain(|other| !other.same_as(term));
            }
            *side = Some(Bound { value, inclusive });
            access.bounds.push(term.clone());
        }
        for term in &scan.filter {
            let Some((low, high)) = prefix_range(term, &key.expr) else { continue };
            // The pattern itself is tested as well: it may ask more than its beginning.
            if access.low.is_none() && access.high.is_none() {
                access.low = Some(Bound { value: low, inclusive: true });
                access.high = high.map(|value| Bound { value, inclusive: false });
                access.bounds.push(term.clone());
            }
        }
        break;
    }
    (access, rest)
}

/// The range of texts in which all those lie that a LIKE with a constant beginning holds for: from that to the next text of its length.
fn prefix_range(term: &Expr, key: &Expr) -> Option<(Expr, Option<Expr>)> {
    let ExprKind::Like(parts, None) = term.kind() else { return None };
    let Some(Value::Text(pattern)) = parts[1].constant() else { return None };
    let fixed = matches!(key.sql_type(), SqlType::Char(_));
    if fixed || !is_key(&parts[0], key) {
        return None;
    }
    let prefix = &pattern[..pattern.find(['%', '_']).unwrap_or(pattern.len())];
    let text = |text: String| Expr::literal(Value::Text(text), SqlType::TEXT, term.span());
    (!prefix.is_empty()).then(|| (text(prefix.to_owned()), after_prefix(prefix).map(text)))
}

/// The values that a condition asks a key to have.
fn equality(term: &Expr, key: &Expr) -> Option<Probe> {
    if let ExprKind::In(operand, list) = term.kind()
        && is_key(operand, key)
    {
        let fits = list.iter().all(|value| is_constant(value) && comparable(value.sql_type(), key.sql_type()));
        return fits.then(|| Probe::OneOf(list.clone()));
    }
    if let ExprKind::Is(operand, Test::Null) = term.kind() {
        return is_key(operand, key).then_some(Probe::Null);
    }
    comparison(term, key).and_then(|(op, value)| (op == CompareOp::Equal).then(|| Probe::OneOf(vec![value])))
}

/// `key op constant`, whichever side the key appears on.
fn comparison(term: &Expr, key: &Expr) -> Option<(CompareOp, Expr)> {
    let ExprKind::Compare(op, sides) = term.kind() else { return None };
    let (op, value) = match sides.as_ref() {
        [left, right] if is_key(left, key) && is_constant(right) => (*op, right),
        [left, right] if is_key(right, key) && is_constant(left) => (op.flipped(), left),
        _ => return None,
    };
    comparable(value.sql_type(), key.sql_type()).then(|| (op, value.clone()))
}

/// Whether an expression is what a key is made of. A text column may have been given a longer type, in which it has the same values.
fn is_key(expr: &Expr, key: &Expr) -> bool {
    match (expr.kind(), key.kind()) {
        (ExprKind::Column(a), ExprKind::Column(b)) => a == b,
        _ => expr.same_as(key),
    }
}

fn is_constant(expr: &Expr) -> bool {
    expr.columns().is_empty() && !expr.has_subquery()
}

/// Whether values of these types are ordered alike once they have the type of the key.
fn comparable(value: SqlType, key: SqlType) -> bool {
    let fixed = |sql_type: SqlType| matches!(sql_type, SqlType::Char(_));
    (value.is_exact() && key.is_exact())
        || (key.is_approximate() && value.is_number())
        || (value.is_text() && key.is_text() && !fixed(key))
        || value == key
}

/// Whether every value of one type is one of the other, as it is.
fn holds_all(value: SqlType, key: SqlType) -> bool {
    value == key || (value.is_text() && key.is_text()) || (value.is_exact() && value.common(key) == Some(key))
}

fn is_exact(probe: &Probe, key: SqlType) -> bool {
    match probe {
        Probe::OneOf(values) => values.iter().all(|value| holds_all(value.sql_type(), key)),
        Probe::Null => true,
    }
}

/// Whether the rows of an index come in the order of `keys`, once `equal` of its keys are fixed: and if so, whether backwards.
fn order_of(scan: &Scan, index: &ScanIndex, equal: usize, single: bool, keys: &[SortKey]) -> Option<bool> {
    if !single {
        return None;
    }
    let own = index.keys_over(&scan.columns);
    let mut ways = [true, true];
    for (at, key) in keys.iter().enumerate() {
        let own_key = own.get(equal + at)?.as_ref()?;
        if !is_key(&key.expr, &own_key.expr) {
            return None;
        }
        let never_null = index.never_null.get(equal + at).copied().unwrap_or(false);
        let nulls = |reversed: bool| never_null || (own_key.nulls == key.nulls) != reversed;
        let same = own_key.direction == key.direction;
        ways[0] &= same && nulls(false);
        ways[1] &= !same && nulls(true);
    }
    match ways {
        [true, _] => Some(false),
        [_, true] => Some(true),
        _ => None,
    }
}
