use super::{ColumnId, Expr, ExprKind, SortKey};
use crate::catalog::{Index, IndexKey, IndexPart, TableDefinition};
use crate::diagnostic::Span;

/// An index of a scanned table.
#[derive(Clone, Debug)]
pub struct ScanIndex {
    pub name: String,
    /// What its rows are sorted by, over the columns of the table as slots.
    pub keys: Vec<SortKey>,
    /// For each key whether it is never NULL.
    pub never_null: Vec<bool>,
    /// Columns that it holds besides those of its keys.
    pub include: Vec<usize>,
    /// The keys as text: equal for two indexes of a table exactly when their rows are sorted alike.
    pub signature: String,
}

impl ScanIndex {
    /// An index all of whose keys are columns, for which nothing needs to be bound; `None` for one over an expression.
    pub fn over_columns(definition: &TableDefinition, index: &Index) -> Option<Self> {
        let key = |key: &IndexKey| match &key.part {
            IndexPart::Column(at) => {
                let column = &definition.columns[*at];
                let expr = Expr::new(ExprKind::Slot(*at), column.sql_type, Span::default());
                Some((SortKey { expr, direction: key.direction, nulls: key.nulls }, column.not_null))
            }
            IndexPart::Expression(_) => None,
        };
        let (keys, never_null) = index.keys.iter().map(key).collect::<Option<Vec<_>>>()?.into_iter().unzip();
        let (name, include) = (index.name.clone(), index.include.clone());
        Some(Self { name, keys, never_null, include, signature: definition.key_text(index) })
    }

    /// The keys over these columns of a scan; `None` for one that uses a column the scan does not read.
    pub fn keys_over(&self, columns: &[(ColumnId, usize)]) -> Vec<Option<SortKey>> {
        let of = |slot: usize| columns.iter().find(|(_, place)| *place == slot).map(|(id, _)| *id);
        let over = |key: &SortKey| {
            let mut known = true;
            key.expr.walk(&mut |expr| known &= !matches!(expr.kind(), ExprKind::Slot(slot) if of(*slot).is_none()));
            known.then(|| SortKey { expr: over(key.expr.clone(), &of), ..key.clone() })
        };
        self.keys.iter().map(over).collect()
    }

    /// The columns whose values it holds as they are.
    pub fn holds(&self) -> Vec<usize> {
        let plain = self.keys.iter().filter_map(|key| match key.expr.kind() {
            ExprKind::Slot(slot) => Some(*slot),
            _ => None,
        });
        plain.chain(self.include.iter().copied()).collect()
    }
}

/// Slots as columns.
fn over(expr: Expr, of: &impl Fn(usize) -> Option<ColumnId>) -> Expr {
    if let ExprKind::Slot(slot) = expr.kind() {
        let id = of(*slot);
        return id.map_or(expr.clone(), |id| Expr::column(id, expr.sql_type(), Span::default()));
    }
    let Ok(mapped) = expr.map_children(&mut |child| Ok::<_, std::convert::Infallible>(over(child, of)));
    mapped
}
