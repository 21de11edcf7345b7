//! Words that can't be names unless quoted: those that begin a clause or stand inside an expression.

const RESERVED: &[&str] = &[
    "ALL",
    "AND",
    "ANY",
    "AS",
    "ASC",
    "BETWEEN",
    "BY",
    "CASE",
    "CAST",
    "CREATE",
    "CROSS",
    "CURRENT_DATE",
    "CURRENT_TIME",
    "CURRENT_TIMESTAMP",
    "DESC",
    "DISTINCT",
    "ELSE",
    "END",
    "ESCAPE",
    "EXCEPT",
    "EXISTS",
    "FALSE",
    "FETCH",
    "FROM",
    "FULL",
    "GROUP",
    "HAVING",
    "IN",
    "INNER",
    "INTERSECT",
    "INTERVAL",
    "INTO",
    "IS",
    "JOIN",
    "LEFT",
    "LIKE",
    "LIMIT",
    "NATURAL",
    "NOT",
    "NULL",
    "OFFSET",
    "ON",
    "OR",
    "ORDER",
    "OUTER",
    "RIGHT",
    "SELECT",
    "SOME",
    "THEN",
    "TRUE",
    "UNION",
    "UNIQUE",
    "UNKNOWN",
    "USING",
    "VALUES",
    "WHEN",
    "WHERE",
    "WINDOW",
    "WITH",
];

/// Whether a word is reserved: it is a name only in double quotes.
pub fn is_reserved(word: &str) -> bool {
    let Some(first) = word.bytes().next().map(|byte| byte.to_ascii_uppercase()) else { return false };
    // The list is in order: only the words with the same first letter are compared.
    let from = RESERVED.partition_point(|reserved| reserved.as_bytes()[0] < first);
    let same = RESERVED[from..].iter().take_while(|reserved| reserved.as_bytes()[0] == first);
    same.into_iter().any(|reserved| word.eq_ignore_ascii_case(reserved))
}

/// A name as a statement has it: in double quotes where it has to be.
pub fn written_name(name: &str) -> String {
    let is_plain = name.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_alphanumeric() || c == '_')
        && !is_reserved(name);
    if is_plain { name.to_owned() } else { quoted_name(name) }
}

/// A name in double quotes.
pub fn quoted_name(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reserved_words_are_found_in_any_case_and_no_others_are() {
        assert!(RESERVED.is_sorted(), "the search needs the order");
        for word in RESERVED {
            assert!(is_reserved(word) && is_reserved(&word.to_lowercase()), "{word}");
            assert!(!is_reserved(&format!("{word}_")) && !is_reserved(&word[1..]), "{word}");
        }
        assert!(!is_reserved("") && !is_reserved("zone") && !is_reserved("ä"));
    }
}
