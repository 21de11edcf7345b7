/// How a text file is laid out; what is not said is the file format's own default.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct FileOptions {
    /// What the file is, where its name does not tell or tells something else.
    pub(crate) format: Option<FileFormat>,
    pub(crate) delimiter: Option<char>,
    pub(crate) quote: Option<char>,
    pub(crate) row_end: RowEnd,
    pub(crate) no_header: bool,
    /// Names of the file's columns, in the place of those in its header.
    pub(crate) columns: Option<Vec<String>>,
    pub(crate) skip: u64,
    pub(crate) null_text: Option<String>,
    /// The name of a character encoding; UTF-8 without it.
    pub(crate) encoding: Option<String>,
    pub(crate) decimal_mark: Option<char>,
    /// Templates of days, times and timestamps, as `CAST … FORMAT` has them.
    pub(crate) date_format: Option<String>,
    pub(crate) time_format: Option<String>,
    pub(crate) timestamp_format: Option<String>,
    /// Bytes that a row has at most.
    pub(crate) line_limit: Option<u64>,
    pub(crate) load: LoadOptions,
}

/// What a file holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum FileFormat {
    Csv,
    Tsv,
    /// One array of objects, or JSON lines.
    Json,
    JsonLines,
    Parquet,
    Arrow,
}

/// What ends a row of a text file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) enum RowEnd {
    /// LF, CR LF or CR, whichever comes.
    #[default]
    Any,
    Lf,
    CrLf,
    Cr,
}

/// Where bad rows are written to.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct ErrorFile {
    pub(crate) path: String,
    /// Whether the file may be there already.
    pub(crate) replace: bool,
}

/// How the rows of a file are put into a table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct LoadOptions {
    /// Rows after which what was loaded so far is committed.
    pub(crate) batch: Option<u64>,
    /// How many bad rows are passed over.
    pub(crate) error_limit: u64,
    /// The file that bad rows are written to.
    pub(crate) errors_into: Option<ErrorFile>,
    /// Whether CHECK constraints and foreign keys are not looked at.
    pub(crate) unchecked: bool,
}
