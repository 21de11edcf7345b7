/// How a text file is laid out; what is not said is the file format's own default.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct FileOptions {
    pub(crate) delimiter: Option<char>,
    pub(crate) no_header: bool,
    pub(crate) skip: u64,
    pub(crate) null_text: Option<String>,
}
