use super::problem_help::{
    alias_help, cast_help, common_help, compare_help, field_help, file_problem, group_help, operator_help, start_help,
};
use super::scope::Clause;
use crate::diagnostic::{Error, Facts, SqlState, counted, sentence_list};
use crate::syntax::written_name;
use crate::types::SqlType;

/// What can be wrong with the meaning of a statement.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    #[error("no table {name:?}")]
    NoSuchTable { name: String, near: Option<String>, elsewhere: Vec<String>, known: Vec<String> },
    #[error("no schema {name:?}")]
    NoSuchSchema { name: String, known: Vec<String> },
    #[error("a table's name has at most two parts, schema and table")]
    NameTooLong,
    #[error("no column {name:?}{place}", place = in_tables(tables))]
    NoSuchColumn { name: String, tables: Vec<String>, near: Option<String>, meant_text: bool },
    #[error("no table {name:?} in FROM")]
    NoSuchCorrelation { name: String, known: Vec<String>, renamed: Option<String> },
    #[error("ambiguous column {name:?}: in {tables}", tables = sentence_list(tables))]
    AmbiguousColumn { name: String, tables: Vec<String> },
    #[error("two columns of the result are called {name:?}")]
    AmbiguousAlias { name: String },
    #[error("two tables are called {name:?} here")]
    DuplicateCorrelation { name: String },
    #[error("column {name:?} of {clause} is not in {side}")]
    UsingColumnMissing { clause: &'static str, name: String, side: String, near: Option<String> },
    #[error("alias {name:?} can't be used in {clause}: it is computed later")]
    AliasTooEarly { name: String, clause: Clause, expression: String, computed: Computed },
    #[error("aggregate {name} can't be used in {clause}")]
    AggregateMisplaced { name: String, clause: Clause },
    #[error("aggregate {inner} inside aggregate {outer}")]
    NestedAggregate { inner: String, outer: String },
    #[error("{text} appears neither in GROUP BY nor inside an aggregate")]
    NotGrouped { text: String, grouped: Vec<String> },
    #[error("{left} can't be compared with {right}")]
    NotComparable { left: SqlType, right: SqlType, texts: [String; 2] },
    #[error("{symbol} does not apply to {left} and {right}")]
    NoOperator { symbol: &'static str, left: SqlType, right: SqlType, texts: [String; 2] },
    #[error("{what} needs {expected}, this is {found}")]
    WrongType { what: String, expected: &'static str, found: SqlType },
    #[error("{what} has no common type: {first} in the first place, {odd} here")]
    NoCommonType { what: &'static str, first: SqlType, odd: SqlType, texts: [String; 2] },
    #[error("{from} can't be cast to {to}")]
    NoCast { from: SqlType, to: SqlType },
    #[error("a DATE has no hours, and the interval is one of {fields}")]
    DayAndTime { fields: String },
    #[error("the result of {symbol} would need {digits} digits after the point; at most 38 are possible")]
    ScaleTooLarge { symbol: &'static str, digits: u16 },
    #[error("{name} takes {}, {found} given", counted(*expected, "argument"))]
    ProgramArguments { name: String, expected: usize, found: usize },
    #[error("argument {number} of {name} is {found}, not {expected}")]
    ProgramArgument { name: String, number: usize, expected: SqlType, found: SqlType },
    #[error("no function {name}")]
    NoSuchFunction { name: String, near: Option<&'static str>, meant: Option<String> },
    #[error("{name} takes {expected}, {found} given")]
    ArgumentCount { name: &'static str, expected: &'static str, found: usize },
    #[error("{name} takes no {what}")]
    ArgumentForm { name: String, what: &'static str },
    #[error("position {position} in ORDER BY: the result has {}", counted(*columns, "column"))]
    PositionOutOfRange { position: i64, columns: usize },
    #[error("ORDER BY with DISTINCT can only sort by what is selected")]
    SortKeyNotSelected,
    #[error("{table:?} keeps no history")]
    NotVersioned { table: String, stored: bool },
    #[error("a moment of FOR SYSTEM_TIME is a date or a timestamp, this is {found}")]
    NoMoment { found: SqlType, text: Option<String> },
    #[error("no period {name:?}{place}", place = in_tables(tables))]
    NoSuchPeriod { name: String, tables: Vec<String>, known: Vec<String> },
    #[error("{op} needs a period {side}")]
    NoPeriod { op: &'static str, side: &'static str },
    #[error("a period is not a value: it is used beside {ops} only")]
    PeriodAlone { ops: &'static str },
    #[error("{clause} can't use columns")]
    ColumnInConstant { clause: Clause },
    #[error("{what} must be an integer, 0 or more")]
    BadCount { what: &'static str, state: SqlState },
    #[error("no value for parameter {name}")]
    ParameterMissing { name: String, known: Vec<String> },
    #[error("no parameter {name} in the statement")]
    ParameterUnused { name: String, known: Vec<String> },
    #[error("value '{value}' of parameter {name} is not a valid {expected}")]
    ParameterValue { name: String, value: String, expected: SqlType },
    #[error("* needs a table in FROM")]
    StarWithoutFrom,
    #[error("a row of VALUES has {found} values, the first has {first}")]
    ValuesWidth { first: usize, found: usize },
    #[error("WITH TIES needs ORDER BY: without an order there are no ties")]
    TiesWithoutOrder,
    #[error("the query gives {}, {expected} wanted here", counted(*found, "column"))]
    SubqueryWidth { expected: usize, found: usize },
    #[error("{found} is not cut to a {unit}")]
    NoStart { unit: &'static str, found: SqlType, text: String },
    #[error("the file of table {name:?} can't be read: {}", file_problem(error))]
    BrokenFile { name: String, error: Box<Error> },
    #[error("a scalar subquery gives one column, this one {found}")]
    ScalarWidth { found: usize },
    #[error("more than {most} grouping sets")]
    TooManySets { most: usize },
    #[error("GROUPING takes what is grouped by; {text} is not")]
    GroupingArgument { text: String },
    #[error("{name} needs WITHIN GROUP (ORDER BY …)")]
    NeedsWithinGroup { name: &'static str },
    #[error("{name} needs OVER (…)")]
    NeedsOver { name: &'static str },
    #[error("{text} means a row of a frame, and there is no frame here")]
    NestedMisplaced { text: String },
    #[error("window function {text} inside a window function or an aggregate")]
    NestedWindow { text: String },
    #[error("window function {text} can't be used in {clause}: windows are computed after it")]
    WindowMisplaced { text: String, clause: Clause, rewritten: String },
    #[error("{name} needs ORDER BY in its window")]
    WindowWithoutOrder { name: &'static str },
    #[error("no window {name:?}")]
    NoSuchWindow { name: String, known: Vec<String> },
    #[error("NEXT VALUE FOR can't be used {}", if *inside { "in a query inside another".to_owned() } else { format!("in {clause}") })]
    NextValueMisplaced { clause: Clause, inside: bool },
    #[error("{name:?} is neither a type nor a domain")]
    NoSuchType { name: String, near: Option<String> },
    #[error("no sequence {name:?}")]
    NoSuchSequence { name: String, near: Option<String> },
    #[error("no table function {name:?}")]
    NoSuchTableFunction { name: String, near: Option<String> },
    #[error("function {name} has {} parameters, {found} arguments were given", wanted.len())]
    FunctionArguments { name: String, wanted: Vec<String>, found: usize },
    #[error("two windows have the name {name:?}")]
    WindowTwice { name: String },
    #[error("a window that refines {name} can't add {what}")]
    WindowRefined { name: String, what: &'static str },
    #[error("{name} is neither a window function nor an aggregate")]
    NoWindowFunction { name: String },
    #[error("{name} has no frame: it looks at the entire partition")]
    FrameUnused { name: &'static str },
    #[error("the frame ends before it begins")]
    FrameBackwards,
    #[error("a distance of RANGE needs exactly one column in ORDER BY, there are {found}")]
    RangeNeedsOneKey { found: usize },
    #[error("the distance of a frame can't be negative")]
    NegativeDistance,
    #[error("{what} has {} for {}", counted(names.len(), "name"), counted(columns.len(), "column"))]
    ColumnNames { what: String, names: Vec<String>, columns: Vec<String> },
    #[error("{}", set_columns(what, *odd, lists, *at))]
    SetColumns { what: &'static str, odd: usize, lists: [Vec<(String, SqlType)>; 2], at: Option<usize> },
    #[error("CORRESPONDING finds no column of the same name in both queries")]
    NothingCorresponds { lists: [Vec<(String, SqlType)>; 2] },
    #[error("two common table expressions are called {name:?}")]
    DuplicateWith { name: String },
    #[error("{name} uses its own name, and WITH does not say RECURSIVE")]
    RecursiveMissing { name: String },
    #[error("SEARCH and CYCLE need a query that uses its own name; {name} does not")]
    NotRecursive { name: String },
    #[error("{name} has no query to begin with: every operand of its UNION uses {name} itself")]
    NoAnchor { name: String },
    #[error("SEARCH and CYCLE can't follow the rows of {name} through a set operator in its FROM")]
    SearchPastSetOperator { name: String },
    #[error("a recursive query can't appear in {rule}")]
    RecursionRule { rule: &'static str },
    #[error("the right side of a RIGHT or FULL JOIN can't use columns of the left")]
    LateralOuter,
    #[error("the row has no field {name:?}")]
    NoSuchField { name: String, known: Vec<String> },
    #[error("{found} has no {field}")]
    NoField { field: &'static str, found: SqlType, text: String, template: Option<(&'static str, SqlType)> },
    #[error("the template of FORMAT is wrong: {what}")]
    BadTemplate { what: String },
}

/// What does not go together, and both column lists side by side with a mark where they part.
fn set_columns(what: &str, odd: usize, lists: &[Vec<(String, SqlType)>; 2], at: Option<usize>) -> String {
    let headline = match at {
        None => {
            format!("{what} of {} columns in query 1 with {} in query {odd}", lists[0].len(), lists[1].len())
        }
        Some(at) => format!("{what}: column {} has no common type in query 1 and query {odd}", at + 1),
    };
    format!("{headline}\n{}", side_by_side(lists, odd, at))
}

fn side_by_side(lists: &[Vec<(String, SqlType)>; 2], odd: usize, at: Option<usize>) -> String {
    let text = |list: &[(String, SqlType)], row: usize| {
        list.get(row).map_or_else(|| "—".to_owned(), |(name, sql_type)| format!("{name} {sql_type}"))
    };
    let rows = lists[0].len().max(lists[1].len());
    let first: Vec<String> =
        std::iter::once("query 1".to_owned()).chain((0..rows).map(|row| text(&lists[0], row))).collect();
    let width = first.iter().map(|cell| cell.chars().count()).max().unwrap_or(0);
    let parts = at.or_else(|| (0..rows).find(|row| row >= &lists[0].len() || row >= &lists[1].len()));
    let line = |row: usize| {
        let second = if row == 0 { format!("query {odd}") } else { text(&lists[1], row - 1) };
        let mark = if row > 0 && parts == Some(row - 1) { "   <-- here" } else { "" };
        let pad = " ".repeat(width - first[row].chars().count());
        let number = if row == 0 { "    ".to_owned() } else { format!("{row:>3} ") };
        format!("{number}{}{pad} | {second}{mark}", first[row])
    };
    (0..=rows).map(line).collect::<Vec<_>>().join("\n")
}

fn in_tables(tables: &[String]) -> String {
    let named: Vec<&str> = tables.iter().map(String::as_str).filter(|name| !name.is_empty()).collect();
    if named.is_empty() { String::new() } else { format!(" in {}", sentence_list(&named)) }
}

fn known(what: &str, names: &[String]) -> Option<String> {
    if names.is_empty() { None } else { Some(format!("{what} {}", sentence_list(names))) }
}

fn did_you_mean(near: Option<&str>) -> Option<String> {
    near.map(|near| format!("did you mean {near:?}?"))
}

impl Facts for Problem {
    #[expect(clippy::wildcard_enum_match_arm, reason = "every other fact breaks a rule of the language")]
    fn state(&self) -> SqlState {
        match self {
            Self::NoSuchTable { .. } | Self::NoSuchCorrelation { .. } => SqlState::TABLE_NOT_FOUND,
            Self::NoSuchSchema { .. } => SqlState::INVALID_SCHEMA_NAME,
            Self::NoSuchColumn { .. }
            | Self::UsingColumnMissing { .. }
            | Self::AliasTooEarly { .. }
            | Self::NoSuchField { .. } => SqlState::COLUMN_NOT_FOUND,
            Self::ParameterMissing { .. } | Self::ParameterUnused { .. } => SqlState::PARAMETER_MISMATCH,
            Self::ParameterValue { .. } => SqlState::INVALID_CHARACTER_VALUE,
            Self::ScaleTooLarge { .. } => SqlState::NUMERIC_OUT_OF_RANGE,
            Self::BadCount { state, .. } => *state,
            Self::BrokenFile { error, .. } => error.sqlstate(),
            _ => SqlState::SYNTAX_OR_RULE,
        }
    }

    #[expect(clippy::wildcard_enum_match_arm, reason = "few facts have one")]
    fn replacement(&self) -> Option<String> {
        match self {
            Self::NoSuchTable { near, elsewhere, .. } if elsewhere.is_empty() => near.as_deref().map(written_name),
            Self::UsingColumnMissing { near, .. } => near.as_deref().map(written_name),
            Self::NoSuchColumn { near: Some(near), .. } => Some(written_name(near)),
            Self::NoSuchColumn { meant_text: true, name, .. } if super::thesaurus::for_word(name).is_none() => {
                Some(format!("'{name}'"))
            }
            _ => None,
        }
    }

    #[expect(clippy::wildcard_enum_match_arm, reason = "what has none here is asked for further help")]
    fn help(&self) -> Option<String> {
        match self {
            Self::NoSuchTable { near, elsewhere, known: names, .. } => {
                Some(table_help(near.as_deref(), elsewhere, names))
            }
            Self::NoSuchSchema { known: names, .. } => known("the schemas are", names),
            Self::NoSuchColumn { near, meant_text, name, .. } => did_you_mean(near.as_deref())
                .or_else(|| super::thesaurus::for_word(name))
                .or_else(|| meant_text.then(|| format!("if text was meant, write it in single quotes: '{name}'"))),
            Self::NoSuchCorrelation { renamed: Some(alias), name, .. } => {
                Some(format!("{name} is called {alias} in this query"))
            }
            Self::NoSuchCorrelation { known: names, .. } => known("FROM has", names),
            Self::AmbiguousColumn { name, tables } => {
                tables.first().map(|table| format!("say which, as in {table}.{name}"))
            }
            Self::AmbiguousAlias { .. } => {
                Some("sort by the position of the column, or give one of them another name".into())
            }
            Self::DuplicateCorrelation { name } => {
                Some(format!("give one of them another name: {name} AS other_{name}"))
            }
            Self::UsingColumnMissing { near, .. } => did_you_mean(near.as_deref()),
            Self::AliasTooEarly { name, expression, clause, computed } => {
                Some(alias_help((name, expression), *clause, computed))
            }
            Self::AggregateMisplaced { clause: Clause::Where, .. } => {
                Some("conditions on groups go into HAVING, after GROUP BY".into())
            }
            Self::NotGrouped { text, grouped } => Some(group_help(text, grouped)),
            Self::NotComparable { left, right, texts } => compare_help((*left, &texts[0]), (*right, &texts[1])),
            Self::NoOperator { symbol, left, right, texts } => {
                operator_help(symbol, (*left, &texts[0]), (*right, &texts[1]))
            }
            Self::NoSuchFunction { near, meant, .. } => meant
                .clone()
                .or_else(|| did_you_mean(*near))
                .or_else(|| Some("docs/sql.md lists the functions; CREATE FUNCTION makes one".into())),
            Self::SortKeyNotSelected => Some("add the expression to the SELECT list".into()),
            Self::NoCommonType { odd, first, texts, .. } => Some(common_help((*first, &texts[0]), (*odd, &texts[1]))),
            Self::DayAndTime { .. } => Some("CAST(… AS TIMESTAMP) of the day gives one with hours".into()),
            Self::NoCast { from, to } => cast_help(*from, *to),
            Self::ScaleTooLarge { .. } => Some("CAST an operand to fewer digits after the point".into()),
            Self::NotVersioned { table, stored: true } => Some(format!(
                "ALTER TABLE {table} ADD SYSTEM VERSIONING keeps it from then on, CREATE TABLE … WITH SYSTEM VERSIONING from the start"
            )),
            Self::NotVersioned { table, .. } => Some(format!(
                "its rows come from a file or a program; CREATE TABLE my_{table} AS SELECT * FROM {table} WITH DATA WITH SYSTEM VERSIONING makes a table that keeps it"
            )),
            Self::NoMoment { text: Some(text), .. } => {
                let kind = if crate::types::parse_date(text.trim()).is_some() { "DATE" } else { "TIMESTAMP" };
                Some(format!("write {kind} '{}', or COMMIT and a number", text.trim()))
            }
            Self::NoMoment { .. } => Some("write TIMESTAMP '2024-05-01 12:00:00', or COMMIT and a number".into()),
            Self::NoSuchPeriod { known: names, .. } => known("the periods are", names)
                .or_else(|| Some("PERIOD FOR name (start, end) among the columns of CREATE TABLE makes one".into())),
            Self::NoPeriod { .. } => Some("write the name of a period, or PERIOD (start, end)".into()),
            Self::PeriodAlone { .. } => Some("write PERIOD (a, b) OVERLAPS PERIOD (c, d)".into()),
            Self::ParameterMissing { name, .. } => {
                Some(format!("LET {} = … gives it a value", name.trim_start_matches(':')))
            }
            Self::ParameterUnused { known: names, .. } => known("it has", names),
            _ => self.further_help(),
        }
    }
}

impl Problem {
    /// Help for the rules of grouping, windows, queries inside queries, and recursion.
    #[expect(clippy::wildcard_enum_match_arm, reason = "a message that says all needs no help")]
    fn further_help(&self) -> Option<String> {
        match self {
            Self::NeedsWithinGroup { name } => Some(format!("write {name}(…) WITHIN GROUP (ORDER BY column)")),
            Self::NestedMisplaced { text } => {
                Some(format!("it appears in the argument of an aggregate with OVER: SUM({text}) OVER (ORDER BY column)"))
            }
            Self::NeedsOver { name } => Some(format!("write {name}() OVER (ORDER BY column)")),
            Self::WindowMisplaced { rewritten, .. } => {
                Some(format!("compute it in a step and use its column outside:\n{rewritten}"))
            }
            Self::NextValueMisplaced { .. } => Some(
                "it numbers the rows of the outermost SELECT list, of VALUES in an INSERT, of SET, and columns by their DEFAULT"
                    .into(),
            ),
            Self::NoSuchType { name, near } => did_you_mean(near.as_deref())
                .or_else(|| super::for_type(name).map(|sql_type| format!("write {sql_type}"))),
            Self::NoSuchSequence { near, .. } | Self::NoSuchTableFunction { near, .. } => did_you_mean(near.as_deref()),
            Self::FunctionArguments { wanted, .. } => known("its parameters are", wanted),
            Self::NoSuchWindow { known: names, .. } => {
                known("the windows are", names).or_else(|| Some("define it after HAVING: WINDOW name AS (…)".into()))
            }
            Self::ColumnNames { names, columns, .. } => Some(left_over(names, columns)),
            Self::NothingCorresponds { lists } => Some(side_by_side(lists, 2, None)),
            Self::SetColumns { at: Some(at), lists, .. } => {
                Some(format!("CAST one side, as in CAST({} AS {})", lists[1][*at].0, lists[0][*at].1))
            }
            Self::SetColumns { at: None, .. } => Some(
                "give both queries the same columns in the same order; NULL may stand for one that is missing".into(),
            ),
            Self::RecursiveMissing { name } => Some(format!("write WITH RECURSIVE {name} …")),
            Self::NoAnchor { name } => {
                Some(format!("begin with a query that does not use {name}: SELECT … UNION ALL SELECT … FROM {name}"))
            }
            Self::SearchPastSetOperator { name } => {
                Some(format!("name {name} in FROM itself, once in each branch of the UNION"))
            }
            Self::RecursionRule { .. } => {
                Some("use its rows in the query after WITH instead: there they are all found".into())
            }
            Self::FrameBackwards => {
                Some("write ROWS BETWEEN 2 PRECEDING AND CURRENT ROW: the earlier bound first".into())
            }
            Self::NoStart { found, text, .. } => Some(start_help(*found, text)),
            Self::NoField { field, found, text, template } => field_help(field, *found, (text, *template)),
            Self::BrokenFile { error, .. } => error.help().map(str::to_owned),
            Self::ScalarWidth { .. } => {
                Some("select the one column whose value is meant; || or ROW makes one of several".into())
            }
            Self::SubqueryWidth { .. } => Some("select exactly the columns that are compared".into()),
            Self::LateralOuter => Some("write it as a LEFT JOIN LATERAL".into()),
            Self::NoSuchField { known: names, .. } => known("it has", names),
            Self::WindowWithoutOrder { .. } => Some("write OVER (ORDER BY column)".into()),
            _ => None,
        }
    }
}

/// Which of the names or columns have no match.
fn left_over(names: &[String], columns: &[String]) -> String {
    if names.len() > columns.len() {
        let more = &names[columns.len()..];
        format!("{} left over: the query gives no column for it", sentence_list(more))
    } else {
        let more = &columns[names.len()..];
        format!("{} left without a name", sentence_list(more))
    }
}

/// Help for a table that is not there.
fn table_help(near: Option<&str>, elsewhere: &[String], names: &[String]) -> String {
    if let Some(place) = elsewhere.first() {
        return format!("there is one in another schema: {place}");
    }
    did_you_mean(near).or_else(|| known("the tables are", names)).unwrap_or_else(|| {
        "there is no table yet: CREATE TABLE makes one, and FROM FILE 'path' reads a file as one".into()
    })
}

/// What the expression after an alias is computed from, which says where a condition on it goes.
#[derive(Clone, Debug)]
pub enum Computed {
    Row,
    Group,
    /// With the query in which its column can be used.
    Window(String),
}
