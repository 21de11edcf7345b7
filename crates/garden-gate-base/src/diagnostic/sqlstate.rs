use std::fmt;

/// A SQLSTATE: two characters of class, three of subclass (ISO/IEC 9075-2, clause 24.1; 42Sxx and `HYxxx` of X/Open CLI).
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct SqlState([u8; 5]);

macro_rules! states {
    ($($(#[doc = $doc:literal])* $name:ident = $code:literal;)*) => {
        impl SqlState {
            $($(#[doc = $doc])* pub const $name: Self = Self(*$code);)*
        }
    };
}

states! {
    /// Feature not supported.
    FEATURE_NOT_SUPPORTED = b"0A000";
    /// A value is outside the range of its numeric type.
    NUMERIC_OUT_OF_RANGE = b"22003";
    /// Text does not fit its length.
    STRING_RIGHT_TRUNCATION = b"22001";
    /// NULL where a value is needed.
    NULL_NOT_ALLOWED = b"22004";
    /// A period that does not start before it ends.
    INVALID_PERIOD = b"22020";
    /// Text is not a date, time or interval.
    INVALID_DATETIME_FORMAT = b"22007";
    /// A date or time is outside the calendar's range.
    DATETIME_FIELD_OVERFLOW = b"22008";
    /// Division by zero.
    DIVISION_BY_ZERO = b"22012";
    /// Text is not a value of the type it was cast to.
    INVALID_CHARACTER_VALUE = b"22018";
    /// The escape of LIKE is not one character.
    INVALID_ESCAPE_CHARACTER = b"22019";
    /// An escape in a LIKE pattern precedes a character that needs none.
    INVALID_ESCAPE_SEQUENCE = b"22025";
    /// FETCH FIRST with a negative count.
    INVALID_FETCH_COUNT = b"2201W";
    /// OFFSET with a negative count.
    INVALID_OFFSET_COUNT = b"2201X";
    /// A data file cannot be read as the format it should have.
    DATA_EXCEPTION = b"22000";
    /// Syntax error, or a rule of the language is broken.
    SYNTAX_OR_RULE = b"42000";
    /// A table of that name exists already.
    TABLE_EXISTS = b"42S01";
    /// No such table.
    TABLE_NOT_FOUND = b"42S02";
    /// A column of that name exists already.
    COLUMN_EXISTS = b"42S21";
    /// No such column.
    COLUMN_NOT_FOUND = b"42S22";
    /// No such schema.
    INVALID_SCHEMA_NAME = b"3F000";
    /// Text is not a name, or an empty one.
    INVALID_NAME = b"42602";
    /// A parameter has no value, or a value is given for no parameter.
    PARAMETER_MISMATCH = b"07001";
    /// A file cannot be opened, read or written.
    FILE_ACCESS = b"58030";
    /// A query instead of a value has more than one row.
    CARDINALITY = b"21000";
    /// The position of an array element is below 1 or past its end.
    ARRAY_ELEMENT = b"2202E";
    /// An element of an array that is NULL is given a value.
    NULL_ARRAY = b"2200E";
    /// An array has more elements than its type allows.
    ARRAY_RIGHT_TRUNCATION = b"2202F";
    /// A substring's end lies before its start.
    SUBSTRING_ERROR = b"22011";
    /// TRIM of something that is not one character.
    TRIM_ERROR = b"22027";
    /// A regular expression is not one.
    INVALID_REGULAR_EXPRESSION = b"2201B";
    /// The flag of a regular expression is not one.
    INVALID_REGEX_FLAG = b"2201T";
    /// The logarithm of a number that has none.
    INVALID_LOGARITHM = b"2201E";
    /// A power that does not exist.
    INVALID_POWER = b"2201F";
    /// `WIDTH_BUCKET` with no bucket.
    INVALID_WIDTH_BUCKET = b"2201G";
    /// NTILE with fewer than one part.
    INVALID_NTILE = b"22014";
    /// `NTH_VALUE` with a number below 1.
    INVALID_NTH_VALUE = b"22016";
    /// A negative or NULL distance in a window's frame.
    INVALID_FRAME = b"22013";
    /// An offset from UTC that there is not.
    INVALID_TIME_ZONE = b"22009";
    /// A constraint that the end of a transaction finds broken.
    CONSTRAINT_ROLLBACK = b"40002";
    /// A sequence that has given all its numbers.
    SEQUENCE_EXHAUSTED = b"2200H";
    /// A row that a view with CHECK OPTION would not show.
    CHECK_OPTION = b"44000";
    /// A sample of less than 0 or more than 100 percent.
    INVALID_SAMPLE_SIZE = b"2202H";
    /// The number of REPEATABLE is NULL.
    INVALID_SAMPLE_REPEAT = b"2202G";
    /// An interval does not fit its fields.
    INTERVAL_OVERFLOW = b"22015";
    /// A recursion has not ended after as many rounds as are allowed.
    RECURSION_LIMIT = b"R0001";
    /// A statement whose plan would grow without measure.
    TOO_COMPLEX = b"54001";
    /// More than the program allows.
    PROGRAM_LIMIT = b"54000";
    /// A row breaks a constraint.
    CONSTRAINT = b"23000";
    /// A row is still referred to, and RESTRICT forbids to change it.
    RESTRICT = b"23001";
    /// Two transactions can't both be kept: this one is to be run again.
    SERIALIZATION = b"40001";
    /// A statement has no place in the state of the transaction.
    TRANSACTION_STATE = b"25000";
    /// A transaction begins within another.
    ACTIVE_TRANSACTION = b"25001";
    /// A change in a transaction that only reads.
    READ_ONLY = b"25006";
    /// A referential action that would give a row two different keys.
    TRIGGERED_DATA_CHANGE = b"27000";
    /// A program's own function failed.
    EXTERNAL_ROUTINE = b"38000";
    /// No such savepoint.
    SAVEPOINT = b"3B001";
    /// General error.
    GENERAL = b"HY000";
    /// The memory limit is reached.
    MEMORY = b"HY001";
    /// The statement was interrupted.
    CANCELED = b"HY008";
    /// A setting has no such value.
    INVALID_SETTING = b"HY024";
    /// The time limit is reached.
    TIMEOUT = b"HYT00";
}

impl SqlState {
    /// The five characters.
    pub fn as_str(&self) -> &str {
        std::str::from_utf8(&self.0).unwrap_or("HY000")
    }

    /// The first two characters, e.g. `22` for data exceptions.
    pub fn class(&self) -> &str {
        &self.as_str()[..2]
    }
}

impl fmt::Display for SqlState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl fmt::Debug for SqlState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}
