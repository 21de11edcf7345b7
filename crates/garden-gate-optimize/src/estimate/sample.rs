//! Conditions tried on some rows of a table, where statistics of single columns say little: expressions, patterns, columns that go
//! together.

use super::Estimator;
use super::truth::Truth;
use crate::catalog::TableSource;
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::kernel::{Batch, count_true, evaluate};
use crate::logical::{ColumnId, Expr, ExprKind, Function, Scan};
use crate::types::approximate;

/// Rows on which conditions are tried.
const SAMPLE_ROWS: usize = 2048;
/// From so many rows that pass on, the sample counts more than a product of shares.
const ENOUGH: f64 = 24.0;
/// Smaller tables are not worth it.
const LEAST_ROWS: u64 = 64;

impl Estimator<'_> {
    /// The share of the rows of a table for which all of its conditions are TRUE.
    ///
    /// Where it is plain what one column is asked for, statistics tell. Else the conditions are tried on a sample: when enough rows pass,
    /// their share is the answer, whatever goes together in it; when few do, it says between what the product of the single shares may lie.
    ///
    /// # Errors
    /// What reading the table brings; an error of a condition itself is none here.
    pub fn scan(&self, scan: &Scan) -> Result<f64> {
        let reckoned = self.conjunction(&scan.filter)?.share();
        let rows = scan.source.rows();
        if rows < LEAST_ROWS || !self.is_worth_a_sample(&scan.filter) {
            return Ok(reckoned);
        }
        let (tried, rest): (Vec<&Expr>, Vec<&Expr>) = scan.filter.iter().partition(|term| can_try(term));
        let mut columns: Vec<ColumnId> = tried.iter().flat_map(|term| term.columns()).collect();
        columns.sort_unstable();
        columns.dedup();
        let placed = |id: &ColumnId| scan.columns.iter().find(|(known, _)| known == id).copied();
        let Some(columns) = columns.iter().map(placed).collect::<Option<Vec<_>>>() else { return Ok(reckoned) };
        let Some(found) = passing(scan.source.as_ref(), &columns, &tried)? else { return Ok(reckoned) };
        let (passed, count) = (approximate(found.batch.rows), approximate(found.tried));
        let mut others = 1.0;
        for term in rest {
            others *= Truth::of(term, self)?.holds().share();
        }
        let share = passed / count;
        if passed >= ENOUGH || found.is_all {
            return Ok((share * others).clamp(0.0, 1.0));
        }
        // Two standard deviations of a count to either side, and at least one row more than was seen.
        let spread = 2.0 * passed.sqrt() + 1.0;
        let (low, high) = ((passed - spread).max(0.0) / count, (passed + spread + 1.0) / count);
        Ok(reckoned.clamp(low * others, high * others).clamp(0.0, 1.0))
    }

    /// Whether the conditions are about several columns, or of a form of which statistics say nothing.
    fn is_worth_a_sample(&self, filter: &[Expr]) -> bool {
        let mut columns: Vec<ColumnId> = filter.iter().flat_map(Expr::columns).collect();
        columns.sort_unstable();
        columns.dedup();
        columns.len() > 1 || filter.iter().any(|term| !is_plain(term))
    }
}

/// Whether statistics of a column say how often a condition holds.
fn is_plain(term: &Expr) -> bool {
    let is_column = |expr: &Expr| matches!(expr.kind(), ExprKind::Column(_));
    match term.kind() {
        ExprKind::Compare(_, sides) => {
            is_column(&sides[0]) && sides[1].is_constant() || is_column(&sides[1]) && sides[0].is_constant()
        }
        ExprKind::In(operand, list) => is_column(operand) && list.iter().all(Expr::is_constant),
        ExprKind::Is(operand, _) | ExprKind::Not(operand) => is_column(operand) || is_plain(operand),
        ExprKind::Or(terms) | ExprKind::And(terms) => terms.iter().all(is_plain),
        ExprKind::Column(_) | ExprKind::Literal(_) => true,
        ExprKind::Slot(_)
        | ExprKind::Parameter(..)
        | ExprKind::Same(_)
        | ExprKind::Arithmetic(..)
        | ExprKind::Concat(_)
        | ExprKind::Negate(_)
        | ExprKind::Like(..)
        | ExprKind::Case(..)
        | ExprKind::Coalesce(_)
        | ExprKind::Cast(_)
        | ExprKind::Call(..)
        | ExprKind::ProgramCall(..)
        | ExprKind::Array(_)
        | ExprKind::Row(_)
        | ExprKind::Field(..)
        | ExprKind::Only(_)
        | ExprKind::Subquery(_) => false,
    }
}

/// Whether a condition can be tried on rows: it has all its values, and gives the same whenever it is asked.
pub(crate) fn can_try(term: &Expr) -> bool {
    let mut fit = true;
    term.walk(&mut |expr| {
        fit &= !matches!(
            expr.kind(),
            ExprKind::Parameter(_, None) | ExprKind::Subquery(_) | ExprKind::Call(Function::Sampled { .. }, _)
        );
    });
    fit
}

/// The rows of a sample that pass conditions.
pub(super) struct PassingRows {
    pub(super) batch: Batch,
    /// Rows of the sample.
    pub(super) tried: usize,
    /// Whether the sample has every row of the table.
    pub(super) is_all: bool,
}

/// The rows of a sample that pass all conditions over these columns, each with its place; `None` when it can't be told.
pub(super) fn passing(
    source: &dyn TableSource,
    columns: &[(ColumnId, usize)],
    terms: &[&Expr],
) -> Result<Option<PassingRows>> {
    let (ids, places): (Vec<ColumnId>, Vec<usize>) = columns.iter().copied().unzip();
    let Some(sample) = source.sample(&places, SAMPLE_ROWS)? else { return Ok(None) };
    if sample.rows == 0 {
        return Ok(None);
    }
    let slots: HashMap<ColumnId, usize> = ids.into_iter().zip(0..).collect();
    let (tried, is_all) = (sample.rows, sample.rows as u64 >= source.rows());
    let mut batch = Batch::new(sample.columns, sample.rows);
    for term in terms {
        let Some(resolved) = in_slots((*term).clone(), &slots) else { return Ok(None) };
        // A condition that fails for some row says nothing.
        let Ok(truth) = evaluate(&resolved, &batch) else { return Ok(None) };
        let truth = truth.into_array(batch.rows)?;
        let Some(mask) = arrow::array::AsArray::as_boolean_opt(&truth) else { return Ok(None) };
        batch = batch.filter(mask, count_true(mask))?;
        if batch.rows == 0 {
            break;
        }
    }
    Ok(Some(PassingRows { batch, tried, is_all }))
}

/// The expression over the places of columns in a batch; `None` where it uses another column.
pub(crate) fn in_slots(expr: Expr, slots: &HashMap<ColumnId, usize>) -> Option<Expr> {
    if let ExprKind::Column(id) = expr.kind() {
        let slot = *slots.get(id)?;
        return Some(Expr::new(ExprKind::Slot(slot), expr.sql_type(), expr.span()));
    }
    expr.map_children(&mut |child| in_slots(child, slots).ok_or(())).ok()
}
