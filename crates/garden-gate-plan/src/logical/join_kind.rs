use super::JoinKind;

named! {
    /// Which rows a join gives.
    pub enum JoinKindName {
        /// Each pair that matches.
        Inner = "inner",
        /// Every pair: there is no condition.
        Cross = "cross",
        /// And each row of the left side without a match.
        Left = "left",
        /// And each row of the right side without a match.
        Right = "right",
        /// And each row of either side without a match.
        Full = "full",
        /// Each left row that has a match, once.
        Semi = "semi",
        /// Each left row that has none.
        Anti = "anti",
        /// Each left row, with the truth value of whether it has a match.
        Mark = "mark",
        /// Each left row with its one match or NULLs.
        Single = "single",
    }
}

/// As it is shown when the first input is the left side.
impl From<JoinKind> for JoinKindName {
    fn from(kind: JoinKind) -> Self {
        match kind {
            JoinKind::Inner => Self::Inner,
            JoinKind::Left => Self::Left,
            JoinKind::Full => Self::Full,
            JoinKind::Semi => Self::Semi,
            JoinKind::Anti => Self::Anti,
            JoinKind::Mark => Self::Mark,
            JoinKind::Single => Self::Single,
        }
    }
}
