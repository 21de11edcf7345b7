//! Walks through a part of the work. Each is a chapter of the guide (`docs/guide`), whose examples are run again where it is shown.

use crate::args::Topic;

/// A chapter.
pub(super) struct Walk {
    pub(super) title: String,
    /// Statements that are run before the first step.
    pub(super) setup: Option<&'static str>,
    pub(super) parts: Vec<Part>,
}

/// A part of a chapter.
pub(super) enum Part {
    Heading(String),
    Words(String),
    /// What is typed in the shell.
    Typed(String),
    /// A check file.
    Check(String),
}

const PAGES: [(Topic, &str); 10] = [
    (Topic::Tour, include_str!("../../../../../docs/guide/tour.md")),
    (Topic::Look, include_str!("../../../../../docs/guide/look.md")),
    (Topic::Nulls, include_str!("../../../../../docs/guide/nulls.md")),
    (Topic::Joins, include_str!("../../../../../docs/guide/joins.md")),
    (Topic::Steps, include_str!("../../../../../docs/guide/steps.md")),
    (Topic::Recursion, include_str!("../../../../../docs/guide/recursion.md")),
    (Topic::Plans, include_str!("../../../../../docs/guide/plans.md")),
    (Topic::Time, include_str!("../../../../../docs/guide/time.md")),
    (Topic::Files, include_str!("../../../../../docs/guide/files.md")),
    (Topic::Checks, include_str!("../../../../../docs/guide/checks.md")),
];

impl Walk {
    /// The walk of a topic; none where the shell is asked for.
    pub(super) fn of(topic: Topic) -> Option<Self> {
        let (_, page) = PAGES.iter().find(|(known, _)| *known == topic)?;
        let setup = (topic == Topic::Time).then_some(include_str!("../../../../../demo/time.sql"));
        let mut walk = Self { title: String::new(), setup, parts: Vec::new() };
        let mut words = String::new();
        let mut lines = page.lines();
        while let Some(line) = lines.next() {
            let is_words = !(line.starts_with('#') || line.starts_with("```"));
            if is_words {
                words.push_str(line);
                words.push('\n');
                continue;
            }
            walk.add_words(&mut words);
            if let Some(title) = line.strip_prefix("# ") {
                title.clone_into(&mut walk.title);
            } else if let Some(heading) = line.strip_prefix("## ") {
                walk.parts.push(Part::Heading(heading.to_owned()));
            } else {
                let block: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
                let block = block.join("\n");
                walk.parts.extend(match line {
                    "```sql" => Some(Part::Typed(block)),
                    "```toml" => Some(Part::Check(block)),
                    // What it came to when the page was written.
                    _ => None,
                });
            }
        }
        walk.add_words(&mut words);
        Some(walk)
    }

    fn add_words(&mut self, words: &mut String) {
        let text = std::mem::take(words);
        let text = text.trim();
        self.parts.extend((!text.is_empty()).then(|| Part::Words(text.to_owned())));
    }
}
