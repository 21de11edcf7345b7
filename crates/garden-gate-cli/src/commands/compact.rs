use crate::args::Compact;
use crate::{CliError, Exit, setup};
use garden_gate_view as view;
use std::io::Write;

/// Gives room in a database file that nothing uses back to the disk.
pub(crate) fn compact(arguments: &Compact) -> Result<Exit, CliError> {
    let Some(path) = arguments.common.db.as_ref().filter(|path| path.exists()) else {
        return Err(CliError::Usage("compact works on a database file that is there: give --db FILE".into()));
    };
    if arguments.common.read_only {
        return Err(CliError::Usage("compact writes to the file: it does not go with --read-only".into()));
    }
    let size = setup::database(&arguments.common)?.compact()?;
    let (before, after) = (view::bytes(size.before), view::bytes(size.after));
    writeln!(std::io::stdout().lock(), "{}: {after}, before {before}", path.display())?;
    Ok(Exit::Success)
}
