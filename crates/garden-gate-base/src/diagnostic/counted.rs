//! Numbers of things in messages.

/// `1 column`, `2 columns`.
pub fn counted(number: usize, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}
