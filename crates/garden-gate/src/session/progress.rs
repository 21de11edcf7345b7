use std::fmt;

/// How far the reading of a file is.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Progress {
    /// Bytes of the file.
    pub bytes: u64,
    /// How many of them have been read.
    pub read: u64,
    /// Rows that were found in them.
    pub rows: u64,
}

/// What a program does with news.
pub(super) struct ProgressCallback(pub(super) Box<dyn Fn(&Progress) + Send>);

impl fmt::Debug for ProgressCallback {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("ProgressCallback")
    }
}
