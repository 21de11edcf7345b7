//! The words of the language. The lexer makes a [`Keyword`] of each, so that the parser compares numbers and not texts.

/// Declares the words in the order of their texts, and which of them are reserved: those that begin a clause or stand inside an
/// expression, and can be names only in double quotes.
macro_rules! keywords {
    ($($word:ident $text:literal $($reserved:ident)?,)+) => {
        /// A word of the language; those that are not reserved can be names as well.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        pub(super) enum Keyword {
            $($word,)+
        }

        const WORDS: &[(&str, Keyword, bool)] = &[$(($text, Keyword::$word, is_reserved_word!($($reserved)?)),)+];
    };
}

macro_rules! is_reserved_word {
    () => {
        false
    };
    (reserved) => {
        true
    };
}

keywords! {
    Action "ACTION",
    Add "ADD",
    After "AFTER",
    All "ALL" reserved,
    Alter "ALTER",
    Always "ALWAYS",
    Analyze "ANALYZE",
    And "AND" reserved,
    Any "ANY" reserved,
    Array "ARRAY",
    Arrow "ARROW",
    As "AS" reserved,
    Asc "ASC" reserved,
    Asymmetric "ASYMMETRIC",
    At "AT",
    Batch "BATCH",
    Before "BEFORE",
    Bernoulli "BERNOULLI",
    Between "BETWEEN" reserved,
    Bigint "BIGINT",
    Binary "BINARY",
    Blob "BLOB",
    Boolean "BOOLEAN",
    Both "BOTH",
    Breadth "BREADTH",
    By "BY" reserved,
    Call "CALL",
    Cascade "CASCADE",
    Cascaded "CASCADED",
    Case "CASE" reserved,
    Cast "CAST" reserved,
    Chain "CHAIN",
    Changes "CHANGES",
    Char "CHAR",
    Character "CHARACTER",
    Characters "CHARACTERS",
    Check "CHECK",
    Checks "CHECKS",
    Clob "CLOB",
    Close "CLOSE",
    Column "COLUMN",
    Columns "COLUMNS",
    Comment "COMMENT",
    Commit "COMMIT",
    Committed "COMMITTED",
    Constraint "CONSTRAINT",
    Constraints "CONSTRAINTS",
    Contains "CONTAINS",
    Continue "CONTINUE",
    Corresponding "CORRESPONDING",
    Count "COUNT",
    Cr "CR",
    Create "CREATE" reserved,
    Crlf "CRLF",
    Cross "CROSS" reserved,
    Csv "CSV",
    Cube "CUBE",
    Current "CURRENT",
    CurrentCatalog "CURRENT_CATALOG",
    CurrentDate "CURRENT_DATE" reserved,
    CurrentRole "CURRENT_ROLE",
    CurrentSchema "CURRENT_SCHEMA",
    CurrentTime "CURRENT_TIME" reserved,
    CurrentTimestamp "CURRENT_TIMESTAMP" reserved,
    CurrentUser "CURRENT_USER",
    Cycle "CYCLE",
    Data "DATA",
    Date "DATE",
    Day "DAY",
    Dec "DEC",
    Decimal "DECIMAL",
    Default "DEFAULT",
    Defaults "DEFAULTS",
    Deferrable "DEFERRABLE",
    Deferred "DEFERRED",
    Delete "DELETE",
    Delimiter "DELIMITER",
    Depth "DEPTH",
    Desc "DESC" reserved,
    Deterministic "DETERMINISTIC",
    Distinct "DISTINCT" reserved,
    Domain "DOMAIN",
    Double "DOUBLE",
    Drop "DROP",
    Duplicates "DUPLICATES",
    Else "ELSE" reserved,
    Encoding "ENCODING",
    End "END" reserved,
    Equals "EQUALS",
    Error "ERROR",
    Errors "ERRORS",
    Escape "ESCAPE" reserved,
    Every "EVERY",
    Except "EXCEPT" reserved,
    Exclude "EXCLUDE",
    Excluding "EXCLUDING",
    Execute "EXECUTE",
    Exists "EXISTS" reserved,
    Expect "EXPECT",
    Extract "EXTRACT",
    False "FALSE" reserved,
    Fetch "FETCH" reserved,
    File "FILE",
    Filter "FILTER",
    Final "FINAL",
    First "FIRST",
    Flag "FLAG",
    Float "FLOAT",
    Following "FOLLOWING",
    For "FOR",
    Foreign "FOREIGN",
    Format "FORMAT",
    From "FROM" reserved,
    Full "FULL" reserved,
    Function "FUNCTION",
    Generated "GENERATED",
    Global "GLOBAL",
    Grant "GRANT",
    Greatest "GREATEST",
    Group "GROUP" reserved,
    Grouping "GROUPING",
    Groups "GROUPS",
    Guide "GUIDE",
    Hash "HASH",
    Having "HAVING" reserved,
    Header "HEADER",
    Hidden "HIDDEN",
    History "HISTORY",
    Identity "IDENTITY",
    If "IF",
    Ignore "IGNORE",
    Immediate "IMMEDIATE",
    Immediately "IMMEDIATELY",
    In "IN" reserved,
    Include "INCLUDE",
    Including "INCLUDING",
    Increment "INCREMENT",
    Index "INDEX",
    Initially "INITIALLY",
    Inner "INNER" reserved,
    Insert "INSERT",
    Int "INT",
    Integer "INTEGER",
    Intersect "INTERSECT" reserved,
    Interval "INTERVAL" reserved,
    Into "INTO" reserved,
    Ipaddress "IPADDRESS",
    Is "IS" reserved,
    Isolation "ISOLATION",
    Join "JOIN" reserved,
    Json "JSON",
    Jsonl "JSONL",
    Keep "KEEP",
    Key "KEY",
    Language "LANGUAGE",
    Large "LARGE",
    Last "LAST",
    Lateral "LATERAL",
    Leading "LEADING",
    Least "LEAST",
    Left "LEFT" reserved,
    Let "LET",
    Level "LEVEL",
    Lf "LF",
    Like "LIKE" reserved,
    LikeRegex "LIKE_REGEX",
    Limit "LIMIT" reserved,
    Lines "LINES",
    Local "LOCAL",
    Localtime "LOCALTIME",
    Localtimestamp "LOCALTIMESTAMP",
    Loop "LOOP",
    Mark "MARK",
    Match "MATCH",
    Matched "MATCHED",
    Maxvalue "MAXVALUE",
    Merge "MERGE",
    Minvalue "MINVALUE",
    N "N",
    Natural "NATURAL" reserved,
    Ndjson "NDJSON",
    Nested "NESTED",
    New "NEW",
    Next "NEXT",
    Nfc "NFC",
    Nfd "NFD",
    Nfkc "NFKC",
    Nfkd "NFKD",
    No "NO",
    Normalize "NORMALIZE",
    Normalized "NORMALIZED",
    Not "NOT" reserved,
    Note "NOTE",
    Null "NULL" reserved,
    Nulls "NULLS",
    Numeric "NUMERIC",
    Object "OBJECT",
    Occurrence "OCCURRENCE",
    OccurrencesRegex "OCCURRENCES_REGEX",
    Of "OF",
    Off "OFF",
    Offset "OFFSET" reserved,
    Old "OLD",
    Oldest "OLDEST",
    On "ON" reserved,
    Only "ONLY",
    Open "OPEN",
    Option "OPTION",
    Or "OR" reserved,
    Order "ORDER" reserved,
    Ordinality "ORDINALITY",
    Others "OTHERS",
    Outer "OUTER" reserved,
    Over "OVER",
    Overflow "OVERFLOW",
    Overlaps "OVERLAPS",
    Overlay "OVERLAY",
    Overriding "OVERRIDING",
    Parquet "PARQUET",
    Partial "PARTIAL",
    Partition "PARTITION",
    Path "PATH",
    Percent "PERCENT",
    Period "PERIOD",
    Placing "PLACING",
    Portion "PORTION",
    Position "POSITION",
    PositionRegex "POSITION_REGEX",
    Possible "POSSIBLE",
    Precedes "PRECEDES",
    Preceding "PRECEDING",
    Precision "PRECISION",
    Prepare "PREPARE",
    Preserve "PRESERVE",
    Primary "PRIMARY",
    Quote "QUOTE",
    Range "RANGE",
    Read "READ",
    Reads "READS",
    Real "REAL",
    Recursive "RECURSIVE",
    References "REFERENCES",
    Release "RELEASE",
    Rename "RENAME",
    Repeatable "REPEATABLE",
    Replace "REPLACE",
    Respect "RESPECT",
    Restart "RESTART",
    Restrict "RESTRICT",
    Return "RETURN",
    Returning "RETURNING",
    Returns "RETURNS",
    Revoke "REVOKE",
    Right "RIGHT" reserved,
    Roll "ROLL",
    Rollback "ROLLBACK",
    Rollup "ROLLUP",
    Row "ROW",
    Rows "ROWS",
    RowNumber "ROW_NUMBER",
    Savepoint "SAVEPOINT",
    Scan "SCAN",
    Schema "SCHEMA",
    Search "SEARCH",
    Select "SELECT" reserved,
    Sequence "SEQUENCE",
    Serializable "SERIALIZABLE",
    Series "SERIES",
    SessionUser "SESSION_USER",
    Set "SET",
    Sets "SETS",
    Settings "SETTINGS",
    Shared "SHARED",
    Show "SHOW",
    Signal "SIGNAL",
    Similar "SIMILAR",
    Simple "SIMPLE",
    Skip "SKIP",
    Smallint "SMALLINT",
    Some "SOME" reserved,
    Sql "SQL",
    Start "START",
    Substring "SUBSTRING",
    SubstringRegex "SUBSTRING_REGEX",
    Succeeds "SUCCEEDS",
    Symmetric "SYMMETRIC",
    System "SYSTEM",
    SystemTime "SYSTEM_TIME",
    SystemUser "SYSTEM_USER",
    Table "TABLE",
    Tablesample "TABLESAMPLE",
    Temporary "TEMPORARY",
    Text "TEXT",
    Then "THEN" reserved,
    Ties "TIES",
    Time "TIME",
    Timestamp "TIMESTAMP",
    To "TO",
    Trailing "TRAILING",
    Transaction "TRANSACTION",
    Translate "TRANSLATE",
    TranslateRegex "TRANSLATE_REGEX",
    Trigger "TRIGGER",
    Trim "TRIM",
    True "TRUE" reserved,
    Truncate "TRUNCATE",
    Tsv "TSV",
    Type "TYPE",
    Uescape "UESCAPE",
    Unbounded "UNBOUNDED",
    Uncommitted "UNCOMMITTED",
    Union "UNION" reserved,
    Unique "UNIQUE" reserved,
    Unknown "UNKNOWN" reserved,
    Unnest "UNNEST",
    Update "UPDATE",
    User "USER",
    Using "USING" reserved,
    Uuid "UUID",
    Value "VALUE",
    Values "VALUES" reserved,
    ValueOf "VALUE_OF",
    Varbinary "VARBINARY",
    Varchar "VARCHAR",
    Varying "VARYING",
    Versioning "VERSIONING",
    View "VIEW",
    Week "WEEK",
    When "WHEN" reserved,
    Where "WHERE" reserved,
    Window "WINDOW" reserved,
    With "WITH" reserved,
    Within "WITHIN",
    Without "WITHOUT",
    Work "WORK",
    Workers "WORKERS",
    Write "WRITE",
    X "X",
    Year "YEAR",
    Zone "ZONE",
}

/// Where the words with each first letter begin in the list.
const STARTS: [usize; 27] = {
    let mut starts = [0; 27];
    let (mut letter, mut at) = (0_u8, 0);
    while letter < 26 {
        while at < WORDS.len() && WORDS[at].0.as_bytes()[0] < b'A' + letter {
            at += 1;
        }
        starts[letter as usize] = at;
        letter += 1;
    }
    starts[26] = WORDS.len();
    starts
};

fn found(word: &str) -> Option<&'static (&'static str, Keyword, bool)> {
    let first = usize::from(word.bytes().next()?.to_ascii_uppercase().checked_sub(b'A')?);
    let same = WORDS.get(*STARTS.get(first)?..*STARTS.get(first + 1)?)?;
    same.iter().find(|(text, ..)| text.len() == word.len() && word.eq_ignore_ascii_case(text))
}

impl Keyword {
    /// The keyword that a word is, in whatever case it is written. It is compared with the words of its first letter, of which there are
    /// a few dozen at most.
    pub(super) fn of(word: &str) -> Option<Self> {
        found(word).map(|(_, keyword, _)| *keyword)
    }

    /// The word in capital letters.
    pub(super) fn text(self) -> &'static str {
        WORDS[self as usize].0
    }

    /// Whether it is a name only in double quotes.
    pub(super) fn is_reserved(self) -> bool {
        WORDS[self as usize].2
    }
}

/// Whether a word is reserved: it is a name only in double quotes.
pub fn is_reserved(word: &str) -> bool {
    found(word).is_some_and(|(.., reserved)| *reserved)
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
    fn words_are_found_in_any_case_and_no_others_are() {
        assert!(WORDS.is_sorted_by_key(|(text, ..)| *text), "the search needs the order");
        for (text, keyword, reserved) in WORDS {
            assert_eq!((Keyword::of(text), keyword.text()), (Some(*keyword), *text));
            assert_eq!(Keyword::of(&text.to_lowercase()), Some(*keyword));
            assert_eq!((is_reserved(text), keyword.is_reserved()), (*reserved, *reserved), "{text}");
            assert!(!is_reserved(&format!("{text}_")) && Keyword::of(&format!("{text}_")).is_none(), "{text}");
        }
        assert!(Keyword::of("").is_none() && !is_reserved("zone") && !is_reserved("ä"));
    }
}
