/// How a text file is laid out; what is not said is the file format's own default.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct FileOptions {
    /// What the file is, where its name does not tell or tells something else.
    pub format: Option<FileFormat>,
    pub delimiter: Option<char>,
    pub quote: Option<char>,
    pub row_end: RowEnd,
    pub no_header: bool,
    /// Names of the file's columns, in the place of those in its header.
    pub columns: Option<Vec<String>>,
    pub skip: u64,
    pub null_text: Option<String>,
    /// The name of a character encoding; UTF-8 without it.
    pub encoding: Option<String>,
    pub decimal_mark: Option<char>,
    /// Templates of days, times and timestamps, as `CAST … FORMAT` has them.
    pub date_format: Option<String>,
    pub time_format: Option<String>,
    pub timestamp_format: Option<String>,
    /// Bytes that a row has at most.
    pub line_limit: Option<u64>,
    pub load: LoadOptions,
}

/// What a file holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FileFormat {
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
pub enum RowEnd {
    /// LF, CR LF or CR, whichever comes.
    #[default]
    Any,
    Lf,
    CrLf,
    Cr,
}

/// Where bad rows are written to.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct ErrorFile {
    pub path: String,
    /// Whether the file may be there already.
    pub replace: bool,
}

/// How the rows of a file are put into a table.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct LoadOptions {
    /// Rows after which what was loaded so far is committed.
    pub batch: Option<u64>,
    /// How many bad rows are skipped.
    pub error_limit: u64,
    /// The file that bad rows are written to.
    pub errors_into: Option<ErrorFile>,
    /// Whether CHECK constraints and foreign keys are not looked at.
    pub unchecked: bool,
}
