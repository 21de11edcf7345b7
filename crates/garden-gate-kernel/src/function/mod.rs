//! Functions of the values of one row, family by family. Every function gives NULL when an argument is NULL.

mod array;
mod array_element;
mod datetime;
mod domain;
mod number;
mod regex;
mod sample;
mod series;
mod template;
mod text;
mod zone;

pub use series::Progression;

use super::{Lane, problem::Problem};
use crate::logical::{CompareOp, Function as F};
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef, AsArray, BinaryViewArray, BooleanArray, StringViewArray, StringViewBuilder};
use arrow::array::{BinaryViewBuilder, Int32Array};
use arrow::datatypes::Int64Type;
use std::sync::Arc;

/// The arguments of a call for some rows, with their types.
pub(super) struct Arguments<'a> {
    pub(super) lanes: &'a [Lane],
    pub(super) types: &'a [SqlType],
    pub(super) rows: usize,
    pub(super) result: SqlType,
}

/// An argument read row by row.
#[derive(Clone, Copy)]
pub(super) struct Texts<'a>(&'a StringViewArray, bool);

impl<'a> Texts<'a> {
    /// The text of a row; `None` for NULL.
    pub(super) fn get(self, row: usize) -> Option<&'a str> {
        let row = if self.1 { 0 } else { row };
        self.0.is_valid(row).then(|| self.0.value(row))
    }
}

#[derive(Clone, Copy)]
pub(super) struct Binaries<'a>(&'a BinaryViewArray, bool);

impl<'a> Binaries<'a> {
    /// The bytes of a row; `None` for NULL.
    pub(super) fn get(self, row: usize) -> Option<&'a [u8]> {
        let row = if self.1 { 0 } else { row };
        self.0.is_valid(row).then(|| self.0.value(row))
    }
}

#[derive(Clone, Copy)]
pub(super) struct IntegerLanes<'a>(&'a arrow::array::Int64Array, bool);

impl IntegerLanes<'_> {
    /// The number of a row; `None` for NULL.
    pub(super) fn get(self, row: usize) -> Option<i64> {
        let row = if self.1 { 0 } else { row };
        self.0.is_valid(row).then(|| self.0.value(row))
    }
}

impl<'a> Arguments<'a> {
    /// How many arguments the call has.
    pub(super) fn count(&self) -> usize {
        self.lanes.len()
    }

    /// An argument that is a text.
    pub(super) fn text(&self, at: usize) -> Texts<'a> {
        Texts(self.lanes[at].array().as_string_view(), self.lanes[at].is_constant())
    }

    /// An argument that is a binary string.
    pub(super) fn binary(&self, at: usize) -> Binaries<'a> {
        Binaries(self.lanes[at].array().as_binary_view(), self.lanes[at].is_constant())
    }

    /// An argument that is an integer.
    pub(super) fn whole(&self, at: usize) -> IntegerLanes<'a> {
        IntegerLanes(self.lanes[at].array().as_primitive::<Int64Type>(), self.lanes[at].is_constant())
    }

    /// An argument as one array of all rows.
    pub(super) fn array(&self, at: usize) -> Result<ArrayRef, Problem> {
        self.lanes[at].clone().into_array(self.rows).map_err(|_| Problem::Overflow(self.result))
    }

    /// Whether an argument is a binary string.
    pub(super) fn is_binary(&self, at: usize) -> bool {
        self.types[at].is_binary()
    }

    /// Text for every row.
    pub(super) fn texts(&self, value: impl Fn(usize) -> Result<Option<String>, Problem>) -> Result<ArrayRef, Problem> {
        let mut builder = StringViewBuilder::with_capacity(self.rows);
        let mut growth = Growth::default();
        for row in 0..self.rows {
            let text = value(row)?;
            growth.add(text.as_ref().map_or(0, String::len))?;
            builder.append_option(text);
        }
        Ok(Arc::new(builder.finish()))
    }

    /// The result of a function that gives binary strings, row by row; 53200 where they grow past what may be held.
    pub(super) fn binaries(
        &self,
        value: impl Fn(usize) -> Result<Option<Vec<u8>>, Problem>,
    ) -> Result<ArrayRef, Problem> {
        let mut builder = BinaryViewBuilder::with_capacity(self.rows);
        let mut growth = Growth::default();
        for row in 0..self.rows {
            let bytes = value(row)?;
            growth.add(bytes.as_ref().map_or(0, Vec::len))?;
            builder.append_option(bytes);
        }
        Ok(Arc::new(builder.finish()))
    }

    /// The result of a function that counts, row by row.
    pub(super) fn wholes(&self, value: impl Fn(usize) -> Result<Option<usize>, Problem>) -> Result<ArrayRef, Problem> {
        let count = |count: usize| i32::try_from(count).map_err(|_| Problem::Overflow(self.result));
        let values = (0..self.rows).map(|row| value(row)?.map(count).transpose());
        Ok(Arc::new(values.collect::<Result<Int32Array, Problem>>()?))
    }

    /// The result of a predicate, row by row; `None` is UNKNOWN.
    pub(super) fn truths(&self, value: impl Fn(usize) -> Result<Option<bool>, Problem>) -> Result<ArrayRef, Problem> {
        let mut growth = Growth::default();
        let values = (0..self.rows).map(|row| growth.add(0).and_then(|()| value(row)));
        Ok(Arc::new(values.collect::<Result<BooleanArray, Problem>>()?))
    }
}

/// Bytes of texts that are made row by row: the statement's limits are looked at each megabyte, and every thousand rows.
#[derive(Default)]
struct Growth {
    rows: u32,
    bytes: usize,
    looked_at: usize,
}

impl Growth {
    const LOOK_BYTES: usize = 1 << 20;
    const LOOK_ROWS: u32 = 1024;

    fn add(&mut self, bytes: usize) -> Result<(), Problem> {
        self.bytes += bytes;
        self.rows += 1;
        if self.bytes - self.looked_at > Self::LOOK_BYTES || self.rows.is_multiple_of(Self::LOOK_ROWS) {
            self.looked_at = self.bytes;
            crate::control::reserve(self.bytes, self.rows as usize)?;
        }
        Ok(())
    }
}

/// The value of a call for every row.
pub(super) fn call(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    match function {
        F::Text(function) => text::call(function, arguments),
        F::Regex(function) => regex::call(function, arguments),
        F::Number(function) => number::call(function, arguments),
        F::Float(function) => number::floating(function, arguments),
        F::Array(function) => array::call(function, arguments),
        F::Zone(function) => zone::moved(function, arguments),
        F::WidthBucket => number::width_bucket(arguments),
        F::Greatest => number::extreme(CompareOp::Greater, arguments),
        F::Least => number::extreme(CompareOp::Less, arguments),
        F::Extract(field) => datetime::extract(field, arguments),
        F::TruncateTo(unit) => datetime::truncate_to(unit, arguments),
        F::IntervalFields => datetime::interval_fields(arguments),
        F::FieldCount => datetime::field_count(arguments),
        F::RowNumberAt(_) | F::ValueAt { .. } => Err(Problem::OutsideFrame { name: function.name() }),
        F::SecondDigits => datetime::second_digits(arguments),
        F::MonthsBetween => datetime::months_between(arguments),
        F::CompareExactly => number::compare_exactly(arguments),
        F::TextOfInstant => zone::text_of_instant(arguments),
        F::InstantOfText => zone::instant_of_text(arguments),
        F::CastFormat => template::cast(arguments),
        F::InDomain => domain::held(arguments),
        F::Sampled { pages, .. } => sample::sampled(pages, arguments),
        F::WithElement => array_element::replaced(arguments),
    }
}
