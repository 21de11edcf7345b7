use crate::Look;
use crate::visible::visible;
use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use garden_gate::{Error, SourceText, error::Note};

/// An error as text: SQLSTATE, message, the line of the statement with a caret, what to write instead; then those related to it.
pub fn error(error: &Error, look: Look) -> String {
    let sqlstate = error.sqlstate();
    let mut group =
        Level::ERROR.primary_title(lines(error.message())).id(sqlstate.as_str()).elements(Vec::<Origin<'_>>::new());
    if let (Some(source), Some(span)) = (error.source_text(), error.span()) {
        let mut snippet = snippet(source).annotation(AnnotationKind::Primary.span(span.range()));
        for label in error.labels() {
            snippet = snippet.annotation(AnnotationKind::Context.span(label.span.range()).label(visible(&label.text)));
        }
        group = group.element(snippet);
    }
    if let Some(place) = error.data_place() {
        let mut origin = Origin::path(visible(&place.file.display().to_string()).into_owned());
        if let Some(line) = place.line {
            origin = origin.line(usize::try_from(line).unwrap_or(usize::MAX));
        }
        group = group.element(origin);
    }
    let mut text = render(group, error.help(), look);
    for related in error.related() {
        text.push('\n');
        text.push_str(&self::error(related, look));
    }
    text
}

/// A note as text: its code, message, place and what to write instead.
pub fn note(note: &Note, look: Look) -> String {
    let mut group = Level::NOTE.primary_title(lines(&note.message)).id(note.code).elements(Vec::<Origin<'_>>::new());
    if let (Some(source), Some(span)) = (note.source_text(), note.span) {
        group = group.element(snippet(source).annotation(AnnotationKind::Primary.span(span.range())));
    }
    render(group, note.help.as_deref(), look)
}

fn snippet(source: &SourceText) -> Snippet<'_, annotate_snippets::Annotation<'_>> {
    let snippet = Snippet::source(source.text()).line_start(source.first_line());
    match source.name() {
        Some(name) => snippet.path(visible(name)),
        None => snippet,
    }
}

/// A text of several lines, as a statement or a list of columns in a message is.
fn lines(text: &str) -> String {
    text.split('\n').map(visible).collect::<Vec<_>>().join("\n")
}

fn render(group: Group<'_>, help: Option<&str>, look: Look) -> String {
    let group = match help {
        Some(help) => group.element(Level::HELP.message(lines(help))),
        None => group,
    };
    let renderer = if look.colour { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.decor_style(DecorStyle::Unicode).term_width(look.width.unwrap_or(140));
    format!("{}\n", renderer.render(&[group]))
}
