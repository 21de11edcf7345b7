//! Calls of a program's own functions: checked on the way in and out, since their code is anybody's.

use crate::batch::{Batch, Lane};
use crate::catalog::{NullCall, ProgramFunction};
use crate::conform::{Misfit, conform};
use crate::diagnostic::{Error, Result, SqlState, caught};
use crate::evaluate::evaluate_array;
use crate::logical::Expr;
use arrow::array::{Array, ArrayRef, BooleanArray, UInt32Array, new_null_array};
use arrow::buffer::NullBuffer;
use arrow::compute::{filter, take};

/// The results of a call for the rows of a batch.
///
/// # Errors
/// That of the function's code, with the place of the call; 38000 when it panics or gives an array of another length or type than it
/// promised, 22xxx for a value that its type forbids.
pub(super) fn program_call(function: &ProgramFunction, terms: &[Expr], call: &Expr, batch: &Batch) -> Result<Lane> {
    // A call whose arguments are the same for all rows is made once.
    let constant = terms.iter().all(Expr::is_constant);
    let one_row = Batch::new(Vec::new(), 1);
    let batch = if constant { &one_row } else { batch };
    let arguments = terms.iter().map(|term| evaluate_array(term, batch)).collect::<Result<Vec<_>>>()?;
    let nulls = match function.signature.null_call {
        NullCall::ReturnsNull => arguments.iter().fold(None, |all: Option<NullBuffer>, argument| {
            NullBuffer::union(all.as_ref(), argument.logical_nulls().as_ref())
        }),
        NullCall::Called => None,
    };
    let result = match nulls.filter(|nulls| nulls.null_count() > 0) {
        None => run(function, &arguments, batch.rows),
        Some(nulls) => run_without_nulls(function, &arguments, &nulls),
    };
    Ok(Lane::like(result.map_err(|error| error.at(call.span()))?, constant))
}

/// Calls the function for the rows without NULL, and puts its results back in their places.
fn run_without_nulls(function: &ProgramFunction, arguments: &[ArrayRef], nulls: &NullBuffer) -> Result<ArrayRef> {
    let called = nulls.len() - nulls.null_count();
    if called == 0 {
        return Ok(new_null_array(&function.signature.result.arrow(), nulls.len()));
    }
    let mask = BooleanArray::new(nulls.inner().clone(), None);
    let kept = arguments.iter().map(|argument| filter(argument, &mask)).collect::<Result<Vec<_>, _>>()?;
    let found = run(function, &kept, called)?;
    let mut next = 0;
    let places = nulls.iter().map(|valid| {
        valid.then(|| {
            next += 1;
            next - 1
        })
    });
    Ok(take(&found, &places.collect::<UInt32Array>(), None)?)
}

fn run(function: &ProgramFunction, arguments: &[ArrayRef], rows: usize) -> Result<ArrayRef> {
    if rows == 0 {
        return Ok(new_null_array(&function.signature.result.arrow(), 0));
    }
    let broken = |what: String| {
        let message = format!("the program's function {} {what}", function.name);
        Error::new(SqlState::EXTERNAL_ROUTINE, message)
    };
    let found = caught(|| (function.body)(arguments)).ok_or_else(|| broken("panicked".into()))??;
    if found.len() != rows {
        return Err(broken(format!("gave {} values for {rows} rows", found.len())));
    }
    if *found.data_type() != function.signature.result.arrow() {
        let promised = function.signature.result.arrow();
        return Err(broken(format!("gave an array of {}, {promised} was promised", found.data_type())));
    }
    conform(&found, function.signature.result).map_err(Misfit::into_error)
}
