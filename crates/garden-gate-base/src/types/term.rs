//! Operators and names that the syntax tree and the bound tree have in common.

/// How a parameter is called.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum ParameterName {
    /// `:name`, without the colon.
    Named(String),
    /// The n-th `?` of the statement, from 1.
    Position(usize),
}

impl ParameterName {
    /// Whether both mean one parameter: names are equal without regard to case.
    pub fn is_same(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Named(a), Self::Named(b)) => a.eq_ignore_ascii_case(b),
            (Self::Position(a), Self::Position(b)) => a == b,
            (Self::Named(_), Self::Position(_)) | (Self::Position(_), Self::Named(_)) => false,
        }
    }

    /// The place of a `?`, from 1; `None` of one with a name.
    pub fn position(&self) -> Option<usize> {
        match self {
            Self::Position(position) => Some(*position),
            Self::Named(_) => None,
        }
    }
}

impl std::fmt::Display for ParameterName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Named(name) => write!(f, ":{name}"),
            Self::Position(number) => write!(f, "?{number}"),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum CompareOp {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl CompareOp {
    /// The operator as it is written.
    pub fn symbol(self) -> &'static str {
        match self {
            Self::Equal => "=",
            Self::NotEqual => "<>",
            Self::Less => "<",
            Self::LessOrEqual => "<=",
            Self::Greater => ">",
            Self::GreaterOrEqual => ">=",
        }
    }

    /// The operator that holds when the operands change sides.
    pub fn flipped(self) -> Self {
        match self {
            Self::Equal | Self::NotEqual => self,
            Self::Less => Self::Greater,
            Self::LessOrEqual => Self::GreaterOrEqual,
            Self::Greater => Self::Less,
            Self::GreaterOrEqual => Self::LessOrEqual,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ArithmeticOp {
    Add,
    Subtract,
    Multiply,
    Divide,
}

impl CompareOp {
    /// The operator that holds exactly when this one does not, NULL aside.
    pub fn inverse(self) -> Self {
        match self {
            Self::Equal => Self::NotEqual,
            Self::NotEqual => Self::Equal,
            Self::Less => Self::GreaterOrEqual,
            Self::LessOrEqual => Self::Greater,
            Self::Greater => Self::LessOrEqual,
            Self::GreaterOrEqual => Self::Less,
        }
    }
}

impl ArithmeticOp {
    /// The operator as it is written.
    pub fn symbol(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Divide => "/",
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Test {
    Null,
    True,
    False,
    Unknown,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Now {
    Date,
    Time,
    /// With time zone.
    TimeTz,
    /// With time zone: an instant.
    Timestamp,
    LocalTimestamp,
    /// Who the session is for: `CURRENT_USER` and its like.
    User,
    /// There are no roles: NULL.
    Role,
    Schema,
    Catalog,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Direction {
    Ascending,
    Descending,
}

/// Where NULL appears in an order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nulls {
    First,
    Last,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SetOp {
    Union,
    Intersect,
    Except,
}

impl SetOp {
    /// Its keyword.
    pub fn name(self) -> &'static str {
        match self {
            Self::Union => "UNION",
            Self::Intersect => "INTERSECT",
            Self::Except => "EXCEPT",
        }
    }
}

/// How the rows of two inputs are paired; `left` leads where the two differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum JoinKind {
    /// Each pair for which the condition holds.
    Inner,
    /// And each left row without a match, once, with NULLs.
    Left,
    /// And each row of either side without a match.
    Full,
    /// Each left row that has a match, once.
    Semi,
    /// Each left row that has none.
    Anti,
    /// Each left row, with a truth value: whether it has a match.
    Mark,
    /// Each left row with its match or NULLs; a second match is an error where the value is used.
    Single,
}

impl JoinKind {
    /// The word for it in plans.
    pub fn name(self) -> &'static str {
        match self {
            Self::Inner => "inner",
            Self::Left => "left",
            Self::Full => "full",
            Self::Semi => "semi",
            Self::Anti => "anti",
            Self::Mark => "mark",
            Self::Single => "single",
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FrameUnit {
    Rows,
    Range,
    Groups,
}

/// A bound of a window frame, in the order of the rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FrameBound<E> {
    UnboundedPreceding,
    Preceding(E),
    CurrentRow,
    Following(E),
    UnboundedFollowing,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum FrameExclusion {
    #[default]
    NoOthers,
    CurrentRow,
    Group,
    Ties,
}

/// The end of a text that TRIM cuts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TrimSide {
    Leading,
    Trailing,
    Both,
}

/// A row that a nested window function means (clause 6.11).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum RowMarker {
    BeginPartition,
    BeginFrame,
    /// The row that the window function is computed for.
    CurrentRow,
    /// The row of the frame that is aggregated.
    FrameRow,
    EndFrame,
    EndPartition,
}

impl RowMarker {
    const ALL: [(&'static str, Self); 6] = [
        ("BEGIN_PARTITION", Self::BeginPartition),
        ("BEGIN_FRAME", Self::BeginFrame),
        ("CURRENT_ROW", Self::CurrentRow),
        ("FRAME_ROW", Self::FrameRow),
        ("END_FRAME", Self::EndFrame),
        ("END_PARTITION", Self::EndPartition),
    ];

    /// A row marker of a nested window function by its keyword; case does not matter.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(name, _)| word.eq_ignore_ascii_case(name)).map(|(_, marker)| marker)
    }

    /// Its keyword.
    pub fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, marker)| *marker == self).map_or("FRAME_ROW", |(name, _)| name)
    }
}

/// A field of EXTRACT (clause 6.30).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ExtractField {
    Year,
    Month,
    Day,
    Hour,
    Minute,
    Second,
    TimezoneHour,
    TimezoneMinute,
    /// 1 to 4.
    Quarter,
    /// Of ISO 8601: 1 to 53; week 1 holds the first Thursday of the year.
    Week,
    /// The year that the week of ISO 8601 belongs to.
    WeekYear,
    /// Of ISO 8601: Monday is 1, Sunday 7.
    DayOfWeek,
    /// 1 to 366.
    DayOfYear,
}

impl ExtractField {
    const ALL: [(&'static str, Self); 13] = [
        ("YEAR", Self::Year),
        ("MONTH", Self::Month),
        ("DAY", Self::Day),
        ("HOUR", Self::Hour),
        ("MINUTE", Self::Minute),
        ("SECOND", Self::Second),
        ("TIMEZONE_HOUR", Self::TimezoneHour),
        ("TIMEZONE_MINUTE", Self::TimezoneMinute),
        ("QUARTER", Self::Quarter),
        ("WEEK", Self::Week),
        ("WEEK_YEAR", Self::WeekYear),
        ("DAY_OF_WEEK", Self::DayOfWeek),
        ("DAY_OF_YEAR", Self::DayOfYear),
    ];

    /// Whether it is a part of the calendar, and not of the day.
    pub fn is_of_date(self) -> bool {
        match self {
            Self::Year
            | Self::Month
            | Self::Day
            | Self::Quarter
            | Self::Week
            | Self::WeekYear
            | Self::DayOfWeek
            | Self::DayOfYear => true,
            Self::Hour | Self::Minute | Self::Second | Self::TimezoneHour | Self::TimezoneMinute => false,
        }
    }

    /// A field by its keyword; case does not matter.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(name, _)| word.eq_ignore_ascii_case(name)).map(|(_, field)| field)
    }

    /// Its keyword.
    pub fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, field)| *field == self).map_or("", |(name, _)| name)
    }
}
