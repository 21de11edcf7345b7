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

/// The types of a program's function, and its rule for NULL.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Signature {
    /// The types of the arguments.
    pub arguments: Vec<SqlType>,
    /// The type of the result.
    pub result: SqlType,
    /// What happens to NULL arguments.
    pub null_call: NullCall,
}

impl Signature {
    /// A function that RETURNS NULL ON NULL INPUT.
    pub fn new(arguments: &[SqlType], result: SqlType) -> Self {
        Self { arguments: arguments.to_vec(), result, null_call: NullCall::ReturnsNull }
    }

    /// The same, CALLED ON NULL INPUT.
    #[must_use]
    pub fn called_on_null(self) -> Self {
        Self { null_call: NullCall::Called, ..self }
    }
}

/// A scalar function that a program adds to a database.
///
/// It is deterministic (11.60): the same arguments give the same result. A plan may call it for rows in any order, more or less often
/// than it is written, once for a constant, and on several threads at a time.
#[derive(Clone)]
pub struct ProgramFunction {
    pub name: String,
    pub signature: Signature,
    pub body: Arc<FunctionBody>,
}

impl fmt::Debug for ProgramFunction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ProgramFunction")
            .field("name", &self.name)
            .field("signature", &self.signature)
            .finish_non_exhaustive()
    }
}
