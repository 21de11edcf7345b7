//! Expressions found again by what they say.

use super::{Expr, ExprKind};
use crate::collections::HashMap;
use crate::types::Value;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::mem::discriminant;

/// The places of expressions that say different things; finding one takes constant time.
#[derive(Debug, Default)]
pub struct KnownExprs {
    places: HashMap<u64, Vec<usize>>,
}

impl KnownExprs {
    /// The place of a known expression that says the same as the one at `at`; if there is none, that is known from now on.
    pub fn place_of(&mut self, exprs: &[Expr], at: usize) -> Option<usize> {
        let alike = self.places.entry(hash(&exprs[at])).or_default();
        let known = alike.iter().copied().find(|known| exprs[*known].same_as(&exprs[at]));
        if known.is_none() {
            alike.push(at);
        }
        known
    }

    /// Knows the expression at `by` instead of the one at `at`, which says the same.
    pub fn replace(&mut self, exprs: &[Expr], at: usize, by: usize) {
        if let Some(alike) = self.places.get_mut(&hash(&exprs[at])) {
            alike.iter_mut().filter(|known| **known == at).for_each(|known| *known = by);
        }
    }
}

/// A number that is the same for expressions that say the same.
fn hash(expr: &Expr) -> u64 {
    let mut hasher = DefaultHasher::new();
    expr.walk(&mut |node| {
        discriminant(node.kind()).hash(&mut hasher);
        match node.kind() {
            ExprKind::Column(id) => id.hash(&mut hasher),
            ExprKind::Literal(Value::Integer(number)) => number.hash(&mut hasher),
            ExprKind::Literal(Value::Text(text)) => text.hash(&mut hasher),
            ExprKind::Literal(value) => value.to_string().hash(&mut hasher),
            _ => {}
        }
    });
    hasher.finish()
}
