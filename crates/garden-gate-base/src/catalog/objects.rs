//! What a schema holds besides tables and views: sequences, domains, table functions, comments.

use super::{KnownColumns, View, Written};
use crate::types::SqlType;
use std::sync::{Arc, Mutex, PoisonError};

/// Something in a schema that has a name.
pub trait Named {
    fn name(&self) -> &str;
}

/// The one of this name.
pub fn named<'l, T: Named>(list: &'l [Arc<T>], name: &str) -> Option<&'l Arc<T>> {
    list.iter().find(|known| known.name() == name)
}

/// A sequence generator (clause 4.24).
#[derive(Debug)]
pub struct Sequence {
    pub name: String,
    pub numbers: Numbers,
    /// The number that comes next; `None` when they are used up. Numbers are taken at once, whatever becomes of the transaction.
    next: Mutex<Option<i64>>,
}

/// Which numbers a sequence gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Numbers {
    pub sql_type: SqlType,
    pub start: i64,
    pub increment: i64,
    pub least: i64,
    pub most: i64,
    /// Whether it begins again at its other end.
    pub cycle: bool,
}

impl Sequence {
    /// A sequence whose next number is `next`; `None` where the last one was given out and it does not cycle.
    pub fn new(name: String, numbers: Numbers, next: Option<i64>) -> Self {
        Self { name, numbers, next: Mutex::new(next) }
    }

    /// The number that comes next.
    pub fn next(&self) -> Option<i64> {
        *self.next.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes so many numbers; `None` when there are not as many. O(count).
    pub fn take(&self, count: usize) -> Option<Vec<i64>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        let mut taken = Vec::with_capacity(count);
        let mut coming = *next;
        for _ in 0..count {
            let number = coming?;
            taken.push(number);
            coming = self.numbers.after(number);
        }
        *next = coming;
        Some(taken)
    }
}

impl Numbers {
    /// The number that comes after one; `None` when they are used up.
    pub fn after(self, number: i64) -> Option<i64> {
        let next = number.checked_add(self.increment).filter(|next| (self.least..=self.most).contains(next));
        let other_end = if self.increment > 0 { self.least } else { self.most };
        next.or(self.cycle.then_some(other_end))
    }
}

/// A type with a default and conditions (clause 4.12); columns take them over when they are made.
#[derive(Clone, Debug)]
pub struct Domain {
    pub name: String,
    pub sql_type: SqlType,
    pub default: Option<Written>,
    pub not_null: bool,
    /// Name and condition, in which VALUE stands for the value.
    pub checks: Vec<(String, Written)>,
}

/// A query with parameters, used as a table.
#[derive(Clone, Debug)]
pub struct TableFunction {
    pub name: String,
    pub parameters: Vec<(String, SqlType)>,
    pub columns: Vec<(String, SqlType)>,
    pub query: Written,
    /// The schema in which its own unqualified names are looked up.
    pub schema: String,
    /// The columns that the tables it names had when it was made.
    pub known: Vec<KnownColumns>,
}

/// What people should know of a thing in a schema, or of the schema.
#[derive(Clone, Debug)]
pub struct Comment {
    /// As [`subject`] makes it.
    pub subject: String,
    pub text: String,
}

/// What a comment is about: the schema itself, or a thing in it of this kind and name, or a column of that.
pub fn subject(kind: &str, name: &str, column: Option<&str>) -> String {
    match column {
        Some(column) => format!("COLUMN {name}.{column}"),
        None => format!("{kind} {name}"),
    }
}

macro_rules! named {
    ($($type:ty => $field:ident),*) => {$(
        impl Named for $type {
            fn name(&self) -> &str {
                &self.$field
            }
        }
    )*};
}

named!(View => name, Sequence => name, Domain => name, TableFunction => name, Comment => subject);
