//! Files and folders that are nobody's but the user's.

use std::io;
use std::path::{Path, PathBuf};

/// A folder of the user for a text that another program edits: in one that all users write to, the name could be taken.
pub(crate) fn folder(history: Option<&Path>) -> PathBuf {
    let runtime = std::env::var_os("XDG_RUNTIME_DIR").filter(|value| !value.is_empty()).map(PathBuf::from);
    let own = runtime.filter(|path| path.is_dir()).or_else(|| history.and_then(Path::parent).map(Path::to_owned));
    own.unwrap_or_else(std::env::temp_dir)
}

/// A file that only its owner may read.
pub(crate) fn make_file(path: &Path) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let mut options = std::fs::OpenOptions::new();
    options.create(true).append(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
        options.mode(0o600).open(path)?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))
    }
    #[cfg(not(unix))]
    options.open(path).map(drop)
}

/// The file of the history in the user's folder for the state of programs.
pub(crate) fn history_file() -> Option<PathBuf> {
    let folder = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let state = folder("XDG_STATE_HOME").filter(|path| path.is_absolute());
    let state = state.or_else(|| Some(folder("HOME")?.join(".local/state")))?;
    Some(state.join("garden-gate").join("history"))
}
