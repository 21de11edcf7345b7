use crate::diagnostic::Result;
use crate::types::SqlType;
use arrow::array::ArrayRef;
use std::fmt;
use std::sync::Arc;

/// The code of a program's function: one array for each argument, all of one length, and one array of that length as the result.
pub type FunctionBody = dyn Fn(&[ArrayRef]) -> Result<ArrayRef> + Send + Sync;

/// What a function does with NULL arguments (ISO/IEC 9075-2, 11.60 `<null-call clause>`).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum NullCall {
    /// RETURNS NULL ON NULL INPUT: the result is NULL where any argument is, and the code sees no such row.
    #[default]
    ReturnsNull,
    /// CALLED ON NULL INPUT: the code gets the NULLs.
    Called,
}

/// A scalar function that a program adds to a database.
///
/// It is deterministic (11.60): the same arguments give the same result. A plan may call it for rows in any order, more or less often
/// than it is written, once for a constant, and on several threads at a time.
#[derive(Clone)]
pub struct ProgramFunction {
    pub name: String,
    pub arguments: Vec<SqlType>,
    pub result: SqlType,
    pub null_call: NullCall,
    pub body: Arc<FunctionBody>,
}

impl fmt::Debug for ProgramFunction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ProgramFunction")
            .field("name", &self.name)
            .field("arguments", &self.arguments)
            .field("result", &self.result)
            .finish_non_exhaustive()
    }
}
