//! Operators and names that the syntax tree and the bound tree have in common.

/// How a parameter is called.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum ParameterName {
    /// `:name`, without the colon.
    Named(String),
    /// The n-th `?` of the statement, from 1.
    Position(usize),
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
pub(crate) enum CompareOp {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl CompareOp {
    pub(crate) fn symbol(self) -> &'static str {
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
    pub(crate) fn flipped(self) -> Self {
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
pub(crate) enum ArithmeticOp {
    Add,
    Subtract,
    Multiply,
    Divide,
}

impl ArithmeticOp {
    pub(crate) fn symbol(self) -> &'static str {
        match self {
            Self::Add => "+",
            Self::Subtract => "-",
            Self::Multiply => "*",
            Self::Divide => "/",
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Test {
    Null,
    True,
    False,
    Unknown,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Now {
    Date,
    Time,
    Timestamp,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Direction {
    Ascending,
    Descending,
}

/// Where NULL stands in an order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Nulls {
    First,
    Last,
}
