use super::location::same_file;
use std::fs::{File, Metadata};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

/// A file that takes its name when it is whole: until then its bytes go to a new file of a random name in the same folder, which nobody can
/// have put there before. What was there under the name stays when anything fails.
#[derive(Debug)]
pub struct NewFile {
    file: NamedTempFile,
    path: PathBuf,
}

impl NewFile {
    /// Begins a file that is to be called `path`.
    ///
    /// # Errors
    /// When no file can be made in its folder, or the name is that of a folder, a pipe or a device, which is nothing to be replaced.
    pub fn create(path: impl AsRef<Path>) -> io::Result<Self> {
        let path = path.as_ref();
        if path.metadata().is_ok_and(|there| !there.is_file()) {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "what has this name is not a regular file"));
        }
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut builder = tempfile::Builder::new();
        builder.prefix(".garden-gate-").suffix(".unfinished").rand_bytes(12);
        readable_by_others(&mut builder);
        let file = builder.tempfile_in(folder)?;
        Ok(Self { file, path: path.to_owned() })
    }

    /// A handle for writing.
    ///
    /// # Errors
    /// When the system has no handle left.
    pub fn writer(&self) -> io::Result<File> {
        self.file.as_file().try_clone()
    }

    /// Whether the folder it was made in is the one that its path means now.
    pub fn is_in_place(&self) -> bool {
        let there = self.file.path().canonicalize().and_then(|path| path.metadata());
        let own: io::Result<Metadata> = self.file.as_file().metadata();
        matches!((there, own), (Ok(there), Ok(own)) if same_file(&there, &own))
    }

    /// Ends the file: its bytes are on the disk, and it has its name.
    ///
    /// # Errors
    /// When the bytes cannot be written, as on a full disk; what was there before is left as it was.
    pub fn finish(mut self) -> io::Result<()> {
        self.file.flush()?;
        self.file.as_file().sync_all()?;
        self.file.persist(&self.path).map_err(|error| error.error)?;
        Ok(())
    }

    /// [`NewFile::finish`] for a name that nothing may have.
    ///
    /// # Errors
    /// Also when there is a file of that name by now, which is left as it is.
    pub fn finish_new(mut self) -> io::Result<()> {
        self.file.flush()?;
        self.file.as_file().sync_all()?;
        self.file.persist_noclobber(&self.path).map_err(|error| error.error)?;
        Ok(())
    }
}

#[cfg(unix)]
fn readable_by_others(builder: &mut tempfile::Builder<'_, '_>) {
    use std::os::unix::fs::PermissionsExt;
    // What the process may not give away, its mask takes off.
    builder.permissions(std::fs::Permissions::from_mode(0o666));
}

#[cfg(not(unix))]
fn readable_by_others(_: &mut tempfile::Builder<'_, '_>) {}
