//! What a word that begins or follows no statement may mean: plain words, and what is written for them here.

/// First words of statements, and the help for them; `{}` is the word after.
const STATEMENTS: &[(&[&str], &str)] = &[
    (
        &["list", "show", "tables", "views", "schemas"],
        "TABLE INFORMATION_SCHEMA.TABLES lists the tables, TABLE INFORMATION_SCHEMA.COLUMNS their columns",
    ),
    (
        &["describe", "desc", "columns", "fields"],
        "write SELECT column_name, data_type FROM INFORMATION_SCHEMA.COLUMNS WHERE table_name = '{}'",
    ),
    (&["explain", "plan"], "no statement shows a plan: ask for the plan of the query that follows this word"),
    (&["begin"], "START TRANSACTION begins a transaction"),
    (&["end"], "COMMIT ends a transaction and keeps its changes"),
    (&["abort", "undo", "cancel"], "ROLLBACK ends a transaction without its changes"),
    (&["use", "database"], "SET SCHEMA {} makes it the schema of names without one"),
    (&["declare", "var", "variable", "define", "assign"], "LET {} = value gives a variable its value, :{} reads it"),
    (&["replace", "upsert", "put"], "write INSERT INTO … VALUES … REPLACE DUPLICATES"),
    (&["add", "append"], "INSERT INTO table VALUES (…) adds rows, ALTER TABLE table ADD COLUMN … a column"),
    (&["remove", "erase"], "DELETE FROM table WHERE … removes rows, DROP TABLE a table"),
    (&["modify", "change", "edit"], "UPDATE table SET column = value WHERE … changes rows, ALTER TABLE a table"),
    (&["rename"], "write ALTER TABLE … RENAME TO …"),
    (&["clear", "empty"], "TRUNCATE TABLE {} removes all rows"),
    (
        &["copy", "load", "import", "read"],
        "INSERT INTO table FROM FILE 'path' loads a file, SELECT * FROM FILE 'path' reads it",
    ),
    (&["export", "save", "write", "unload", "dump"], "INSERT INTO FILE 'path' query writes rows into a file"),
    (&["print", "echo", "say"], "VALUES (…) shows values as a row"),
    (&["find", "get", "query", "look"], "SELECT … FROM table WHERE … finds rows"),
    (
        &["if", "while", "loop", "for", "repeat"],
        "CASE WHEN … THEN … ELSE … END chooses between values, WITH RECURSIVE repeats a step",
    ),
];

/// Words in the place of a clause or an operator.
const BEHIND: &[(&[&str], &str)] = &[
    (&["isnull"], "write IS NULL"),
    (&["notnull"], "write IS NOT NULL"),
    (&["not"], "the test of a value is written IS NOT …, as in IS NOT NULL"),
    (&["regexp", "regex", "matches", "match"], "LIKE_REGEX compares with a regular expression"),
    (&["contains", "has"], "LIKE '%text%' finds a text anywhere"),
    (&["equals", "eq"], "one = compares"),
    (&["mod", "div"], "MOD(a, b) is the remainder of a division, a / b the quotient"),
    (&["limit", "top", "first", "only"], "FETCH FIRST 5 ROWS ONLY comes after ORDER BY of a query"),
    (&["minus", "subtract"], "EXCEPT takes away the rows of another query"),
    (
        &["where"],
        "WHERE comes once, before GROUP BY: conditions are joined by AND, and those on groups belong in HAVING",
    ),
    (&["from"], "further tables come after a comma or JOIN in the one FROM"),
    (&["order", "sort"], "one ORDER BY belongs at the end of the query"),
];

/// Words among those of a column or in other parentheses.
const INSIDE: &[(&[&str], &str)] = &[
    (
        &["auto", "automatic", "autonumber", "auto_increment", "autoincrement", "serial", "counter", "identity"],
        "write GENERATED ALWAYS AS IDENTITY for numbers that the database gives",
    ),
    (&["comment"], "COMMENT ON COLUMN table.column IS 'text' says something of a column"),
    (&["null"], "a column may be NULL if NOT NULL is not said"),
    (&["index", "key"], "PRIMARY KEY (…) or UNIQUE (…) belongs among the columns; CREATE INDEX makes an index"),
    (&["computed", "virtual", "stored"], "write GENERATED ALWAYS AS (expression)"),
    (&["limit", "top", "first"], "FETCH FIRST 5 ROWS ONLY belongs at the end of the query"),
];

/// What is written for a word that appears where a parenthesis should be closed.
pub(super) fn for_word_inside(word: &str) -> Option<&'static str> {
    found(INSIDE, word)
}

/// What is written for a word after ALTER TABLE and the name of a table.
pub(super) fn for_alteration(word: &str, column: &str) -> Option<String> {
    const ALTERATIONS: &[(&[&str], &str)] = &[
        (&["modify", "change", "retype", "type"], "write ALTER COLUMN {} SET DATA TYPE and the type"),
        (&["rename_column"], "write RENAME COLUMN {} TO and the new name"),
        (&["remove", "delete"], "write DROP COLUMN {}"),
        (&["insert", "append"], "write ADD COLUMN {} and the type"),
        (&["set"], "write ALTER COLUMN and the column before SET"),
    ];
    found(ALTERATIONS, word).map(|help| help.replace("{}", column))
}

/// The field of EXTRACT that a plain word means.
pub(super) fn for_field(word: &str) -> Option<String> {
    const FIELDS: &[(&[&str], &str)] = &[
        (&["WEEKDAY", "DAYOFWEEK", "DAY_NAME"], "DAY_OF_WEEK, from 1 for Monday to 7 for Sunday"),
        (&["DAYOFYEAR", "YEARDAY"], "DAY_OF_YEAR"),
        (&["ISOWEEK", "WEEKOFYEAR", "WEEK_OF_YEAR"], "WEEK, of ISO 8601"),
        (&["ISOYEAR", "YEAROFWEEK"], "WEEK_YEAR"),
        (&["MON", "MONTHS"], "MONTH"),
        (&["YEARS", "YR"], "YEAR"),
        (&["DAYS", "MDAY"], "DAY"),
        (&["HOURS"], "HOUR"),
        (&["MINUTES", "MIN"], "MINUTE"),
        (&["SECONDS", "SEC"], "SECOND"),
    ];
    let found = FIELDS.iter().find(|(words, _)| words.iter().any(|known| known.eq_ignore_ascii_case(word)))?;
    Some(format!("write {}", found.1))
}

/// What is written for a statement that begins with `first`.
pub(super) fn for_statement(first: &str, second: &str) -> Option<String> {
    let second = if second.is_empty() { "name" } else { second };
    found(STATEMENTS, first).map(|help| help.replace("{}", second))
}

/// What is written for a word after a complete statement.
pub(super) fn for_word_behind(word: &str) -> Option<&'static str> {
    found(BEHIND, word).or_else(|| {
        let ignores_case = word.to_lowercase().ends_with("like");
        ignores_case.then_some("UPPER(a) LIKE UPPER(b) ignores the case of letters")
    })
}

fn found(entries: &[(&[&str], &'static str)], word: &str) -> Option<&'static str> {
    entries.iter().find(|(words, _)| words.iter().any(|known| known.eq_ignore_ascii_case(word))).map(|(_, help)| *help)
}
