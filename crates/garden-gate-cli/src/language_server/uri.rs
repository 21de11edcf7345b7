//! Paths of files as the protocol has them (RFC 8089).

use lsp_types::Uri;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use std::path::{Path, PathBuf};

/// What a path may hold as it is (RFC 3986, 3.3).
const PATH: AsciiSet = NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'_').remove(b'.').remove(b'~');

/// The file that is meant; nothing for what is no file.
pub(super) fn path(uri: &Uri) -> Option<PathBuf> {
    let path = uri.as_str().strip_prefix("file://")?;
    let path = &path[path.find('/')?..];
    Some(PathBuf::from(percent_decode_str(path).decode_utf8().ok()?.as_ref()))
}

/// A file in the words of the protocol; nothing for a path that is no text.
pub(super) fn of_path(path: &Path) -> Option<Uri> {
    let path = std::path::absolute(path).ok()?;
    format!("file://{}", utf8_percent_encode(path.to_str()?, &PATH)).parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_go_there_and_back() {
        for given in ["/garden/query.sql", "/wet bed/ä%20#?.sql"] {
            let uri = of_path(Path::new(given)).unwrap();
            assert_eq!(path(&uri).unwrap(), Path::new(given), "{}", uri.as_str());
        }
        assert_eq!(path(&"untitled:one".parse().unwrap()), None);
    }
}
