/// The candidate that a misspelt `name` was probably meant to be: at most a third of its letters differ, case aside.
pub fn nearest<'a>(name: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let folded = name.to_lowercase();
    let allowed = (folded.chars().count() / 3).max(1);
    candidates
        .into_iter()
        .map(|candidate| (strsim::osa_distance(&folded, &candidate.to_lowercase()), candidate))
        .filter(|(distance, _)| *distance <= allowed)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// The help for a name that is none of `known`: the nearest of them, or all of them after `listing`, as in "the settings are".
pub fn suggestion(name: &str, known: &[&str], listing: &str) -> String {
    nearest(name, known.iter().copied())
        .map_or_else(|| format!("{listing} {}", sentence_list(known)), |near| format!("did you mean {near:?}?"))
}

/// `a, b and c`; past eight names the rest is counted.
pub fn sentence_list<S: AsRef<str>>(names: &[S]) -> String {
    match names {
        [] => String::new(),
        [one] => one.as_ref().to_owned(),
        [first @ .., last] if names.len() <= 8 => {
            let first: Vec<&str> = first.iter().map(AsRef::as_ref).collect();
            format!("{} and {}", first.join(", "), last.as_ref())
        }
        many => {
            let first: Vec<&str> = many[..8].iter().map(AsRef::as_ref).collect();
            format!("{} and {} more", first.join(", "), many.len() - 8)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nearest_takes_small_slips_only() {
        let names = ["bed_id", "name", "sun", "country"];
        for (typed, expected) in
            [("sunn", Some("sun")), ("nmae", Some("name")), ("BEDID", Some("bed_id")), ("Norway", None), ("x", None)]
        {
            assert_eq!(nearest(typed, names), expected, "{typed}");
        }
    }

    #[test]
    fn lists_read_as_sentences() {
        assert_eq!(sentence_list(&["a"]), "a");
        assert_eq!(sentence_list(&["a", "b", "c"]), "a, b and c");
        assert_eq!(sentence_list(&["a"; 10]), "a, a, a, a, a, a, a, a and 2 more");
    }
}
