//! How deep a text can be nested at most, without reading it.

/// At least the number of levels that the tree of a text has: each level takes a bracket, a sign or a word of its own. Counts what may open a level, in texts and comments as well. O(bytes).
pub fn most_levels(text: &str) -> usize {
    let mut levels = 1;
    let mut in_word = false;
    for byte in text.bytes() {
        let is_word = byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'.') || !byte.is_ascii();
        let opens =
            is_word && !in_word || matches!(byte, b'(' | b'[' | b'-' | b'+' | b'*' | b'/' | b'|' | b'"' | b'\'');
        levels += usize::from(opens);
        in_word = is_word;
    }
    levels
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_text_is_nested_deeper() {
        // What is written, and how many nodes lie above each other in its tree.
        for (text, depth) in [
            ("", 0),
            ("SELECT ((((1))))", 5),
            ("SELECT NOT NOT NOT TRUE", 4),
            ("SELECT - - -1", 4),
            ("SELECT a||b||c||d", 4),
            ("SELECT a[b[c[1]]]", 4),
            ("SELECT 1 UNION SELECT 2 EXCEPT SELECT 3", 3),
            ("SELECT CASE WHEN a THEN CASE WHEN b THEN 1 END END", 3),
        ] {
            assert!(most_levels(text) >= depth, "{text}: {}", most_levels(text));
        }
    }
}
