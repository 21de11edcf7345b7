use super::{BrokenConstraint, Position, SourceText, Span, SqlState};
use std::{fmt, path::PathBuf, sync::Arc};

/// The result of everything that can fail.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// A second place that explains an error, e.g. the parenthesis that was never closed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// Where.
    pub span: Span,
    /// What is to be seen there.
    pub text: String,
}

/// The place in a data file that an error is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DataPlace {
    /// The file.
    pub file: PathBuf,
    /// The line, from 1, where the format has lines.
    pub line: Option<u64>,
}

/// What went wrong, with its SQLSTATE, its place in the text, and what to write instead.
#[derive(Clone)]
pub struct Error(Box<Report>);

#[derive(Clone, Debug)]
struct Report {
    sqlstate: SqlState,
    message: String,
    span: Option<Span>,
    labels: Vec<Label>,
    help: Option<String>,
    /// Of a part of the text other than that of `span`, with its place.
    replacement: Option<(Option<Span>, String)>,
    source: Option<Arc<SourceText>>,
    data: Option<DataPlace>,
    related: Vec<Error>,
    constraint: Option<BrokenConstraint>,
    cause: Option<Arc<dyn std::error::Error + Send + Sync>>,
}

/// What a layer's own error enum knows about itself; its `Display` is the message.
pub trait Facts: std::error::Error + Clone + Send + Sync + 'static {
    fn state(&self) -> SqlState;
    fn help(&self) -> Option<String> {
        None
    }
    /// What takes the place of the text that the error is about, where the help leaves no choice.
    fn replacement(&self) -> Option<String> {
        None
    }
    /// The constraint that is broken.
    fn constraint(&self) -> Option<BrokenConstraint> {
        None
    }
}

impl Error {
    /// An error without a place in the statement.
    #[cold]
    pub fn new(sqlstate: SqlState, message: impl Into<String>) -> Self {
        Self(Box::new(Report {
            sqlstate,
            message: message.into(),
            span: None,
            labels: Vec::new(),
            help: None,
            replacement: None,
            source: None,
            data: None,
            related: Vec::new(),
            constraint: None,
            cause: None,
        }))
    }

    /// The error that a layer's facts say: their SQLSTATE, wording and help; the facts stay as its cause.
    #[cold]
    pub fn from_facts(facts: &impl Facts) -> Self {
        let mut error = Self::new(facts.state(), facts.to_string());
        error.0.help = facts.help();
        error.0.replacement = facts.replacement().map(|text| (None, text));
        error.0.constraint = facts.constraint();
        error.0.cause = Some(Arc::new(facts.clone()));
        error
    }

    /// An error of a program's own code, such as a [`TableSource`](crate::catalog::TableSource), with SQLSTATE HY000.
    pub fn custom(message: impl Into<String>) -> Self {
        Self::new(SqlState::GENERAL, message)
    }

    /// 23000 for a row that breaks a constraint.
    pub fn broken(constraint: BrokenConstraint, message: String) -> Self {
        Self::new(SqlState::CONSTRAINT, message).about(constraint)
    }

    /// Says which constraint is broken.
    pub fn about(mut self, constraint: BrokenConstraint) -> Self {
        self.0.constraint = Some(constraint);
        self
    }

    /// Something the engine cannot do yet; `what` completes "… is not supported yet".
    pub fn not_supported(what: &str) -> Self {
        Self::new(SqlState::FEATURE_NOT_SUPPORTED, format!("{what} is not supported yet"))
            .with_help("docs/sql.md lists what is supported")
    }

    /// 0A000 for a demand that cannot be obeyed.
    pub fn not_obeyed(message: String) -> Self {
        Self::new(SqlState::FEATURE_NOT_SUPPORTED, message)
            .with_help("GUIDE IF POSSIBLE (…) makes it optional: a note reports what is not followed")
    }

    /// Sets the place, unless a more exact one is known already.
    pub fn at(mut self, span: Span) -> Self {
        self.0.span.get_or_insert(span);
        self
    }

    /// Points at a second place, with what it has to do with the error.
    pub fn with_label(mut self, span: Span, text: impl Into<String>) -> Self {
        self.0.labels.push(Label { span, text: text.into() });
        self
    }

    /// Says what to do about it, in one sentence without a full stop.
    pub fn with_help(mut self, help: impl Into<String>) -> Self {
        self.0.help = Some(help.into());
        self
    }

    /// Says what takes the place of the text at [`Error::span`], where the help leaves no choice.
    pub fn with_replacement(mut self, text: impl Into<String>) -> Self {
        self.0.replacement = Some((None, text.into()));
        self
    }

    /// Says of which part of the text the replacement is; without one, nothing.
    pub fn replacing(mut self, span: Span) -> Self {
        self.0.replacement = self.0.replacement.map(|(_, text)| (Some(span), text));
        self
    }

    /// Says which file the error is in, and where; a place that is known already stays.
    pub fn in_file(mut self, file: impl Into<PathBuf>, line: Option<u64>) -> Self {
        self.0.data.get_or_insert_with(|| DataPlace { file: file.into(), line });
        self
    }

    /// Says what brought it about; see [`std::error::Error::source`].
    pub fn caused_by(mut self, cause: impl std::error::Error + Send + Sync + 'static) -> Self {
        self.0.cause = Some(Arc::new(cause));
        self
    }

    /// Adds other errors of the same statement.
    pub fn with_related(mut self, related: impl IntoIterator<Item = Self>) -> Self {
        self.0.related.extend(related);
        self
    }

    /// Adds the text that the spans of this error and its related ones point into.
    pub fn in_source(mut self, source: &Arc<SourceText>) -> Self {
        self.0.source.get_or_insert_with(|| Arc::clone(source));
        self.0.related = std::mem::take(&mut self.0.related).into_iter().map(|e| e.in_source(source)).collect();
        self
    }

    /// Whether values are at fault, and other rows might do: class 22 (data) or 23 (constraints).
    pub fn is_about_rows(&self) -> bool {
        let state = self.sqlstate();
        state.as_str().starts_with("22") || state.as_str().starts_with("23")
    }

    /// The SQLSTATE.
    pub fn sqlstate(&self) -> SqlState {
        self.0.sqlstate
    }

    /// What is wrong, in one sentence without a full stop.
    pub fn message(&self) -> &str {
        &self.0.message
    }

    /// What takes the place of which part of the text, when the help leaves no choice.
    pub fn replacement(&self) -> Option<(Span, &str)> {
        let (span, text) = self.0.replacement.as_ref()?;
        Some((span.or(self.0.span)?, text))
    }

    /// What to write instead, when there is something to say.
    pub fn help(&self) -> Option<&str> {
        self.0.help.as_deref()
    }

    /// The text it is about.
    pub fn span(&self) -> Option<Span> {
        self.0.span
    }

    /// Further places in the same text.
    pub fn labels(&self) -> &[Label] {
        &self.0.labels
    }

    /// The statement's text.
    pub fn source_text(&self) -> Option<&SourceText> {
        self.0.source.as_deref()
    }

    /// Line and column of the text it is about.
    pub fn position(&self) -> Option<Position> {
        Some(self.0.source.as_ref()?.position(self.0.span?))
    }

    /// The data file and line it is about.
    pub fn data_place(&self) -> Option<&DataPlace> {
        self.0.data.as_ref()
    }

    /// The constraint that a row broke (class 23): its kind, table and name.
    pub fn constraint(&self) -> Option<&BrokenConstraint> {
        self.0.constraint.as_ref()
    }

    /// Further errors of the same statement, each of its own.
    pub fn related(&self) -> &[Self] {
        &self.0.related
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.0.sqlstate, self.0.message)?;
        if let Some(place) = &self.0.data {
            write!(f, " ({}", place.file.display())?;
            if let Some(line) = place.line {
                write!(f, ", line {line}")?;
            }
            f.write_str(")")?;
        }
        if let Some(position) = self.position() {
            write!(f, " at line {}, column {}", position.line, position.column)?;
        }
        if let Some(help) = &self.0.help {
            write!(f, "; {help}")?;
        }
        Ok(())
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        self.0.cause.as_ref().map(|cause| cause.as_ref() as &(dyn std::error::Error + 'static))
    }
}

/// 58030: a file or a device could not be read or written.
impl From<std::io::Error> for Error {
    #[cold]
    fn from(error: std::io::Error) -> Self {
        Self::new(SqlState::FILE_ACCESS, error.to_string()).caused_by(error)
    }
}

/// Arrow reports what the engine has checked beforehand; what is left is an internal fault, shown as such.
impl From<arrow::error::ArrowError> for Error {
    #[cold]
    fn from(error: arrow::error::ArrowError) -> Self {
        Self::new(SqlState::GENERAL, format!("internal error in a column operation: {error}")).caused_by(error)
    }
}
