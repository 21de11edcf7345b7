//! What a statement did, in words: `table bed created`, `bed: 3 rows inserted`.

use crate::diagnostic::counted;
use crate::syntax::ast::{self, ObjectKind};

/// What became of the thing that a definition is about.
pub(super) fn of_definition(definition: &ast::Definition) -> String {
    use ast::Definition as D;
    let path = |name: &[ast::Ident]| name.iter().map(|part| part.text.as_str()).collect::<Vec<_>>().join(".");
    let object = |kind: &ObjectKind| match kind {
        ObjectKind::Sequence => "sequence",
        ObjectKind::Domain => "domain",
        ObjectKind::Function => "function",
    };
    match definition {
        D::CreateSchema { name, .. } => format!("schema {} created", name.text),
        D::DropSchema { name, .. } => format!("schema {} dropped", name.text),
        D::CreateTable(table) => format!("table {} created", path(&table.name)),
        D::DropTable { name, .. } => format!("table {} dropped", path(name)),
        D::CreateIndex(index) => format!("index {} created", index.name.text),
        D::DropIndex { name, .. } => format!("index {} dropped", path(name)),
        D::CreateView(view) => format!("view {} created", path(&view.name)),
        D::DropView { name, .. } => format!("view {} dropped", path(name)),
        D::AlterTable { name, .. } => format!("table {} changed", path(name)),
        D::CreateSequence(sequence) => format!("sequence {} created", path(&sequence.name)),
        D::AlterSequence { name, .. } => format!("sequence {} changed", path(name)),
        D::CreateDomain(domain) => format!("domain {} created", path(&domain.name)),
        D::AlterDomain { name, .. } => format!("domain {} changed", path(name)),
        D::CreateFunction(function) => format!("function {} created", path(&function.name)),
        D::DropObject { kind, name, .. } => format!("{} {} dropped", object(kind), path(name)),
        D::Comment(comment) => format!("comment on {} set", path(&comment.name)),
        D::TrimHistory(trim) => format!("history of {} trimmed", path(&trim.table)),
    }
}

/// How many rows a change put in, changed or took out.
pub(super) fn of_change(change: &ast::Change, affected: u64) -> String {
    let verb = match &change.kind {
        ast::ChangeKind::Insert(_) => "inserted",
        ast::ChangeKind::Update { .. } => "updated",
        ast::ChangeKind::Delete { .. } | ast::ChangeKind::Truncate { .. } => "deleted",
        ast::ChangeKind::Merge(_) => "changed",
    };
    let table: Vec<&str> = change.table.iter().map(|part| part.text.as_str()).collect();
    format!("{}: {} {verb}", table.join("."), rows(affected))
}

/// `3 rows`
pub(super) fn rows(count: u64) -> String {
    counted(usize::try_from(count).unwrap_or(usize::MAX), "row")
}
