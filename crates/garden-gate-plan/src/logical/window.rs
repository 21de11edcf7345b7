use super::{Aggregate, Expr};
use crate::catalog::Sequence;
use crate::diagnostic::Span;
use crate::types::{FrameBound, FrameExclusion, FrameUnit};
use std::sync::Arc;

/// A window function of clause 6.11 with its arguments and the frame it looks at.
#[derive(Clone, Debug)]
pub struct WindowCall {
    pub function: WindowFunction,
    pub arguments: Vec<Expr>,
    pub frame: Frame,
    pub from_last: bool,
    pub ignore_nulls: bool,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum WindowFunction {
    RowNumber,
    Rank,
    DenseRank,
    PercentRank,
    CumeDist,
    Ntile,
    Lead,
    Lag,
    FirstValue,
    LastValue,
    NthValue,
    Aggregate(Box<Aggregate>),
    /// The next number of a sequence for each row; not part of the language of windows.
    NextValue(Arc<Sequence>),
}

/// The rows around a row that a window function looks at.
#[derive(Clone, Debug)]
pub struct Frame {
    pub unit: FrameUnit,
    pub start: FrameBound<Expr>,
    pub end: FrameBound<Expr>,
    pub exclude: FrameExclusion,
}

impl Frame {
    /// From the first row of the partition to the last peer of the current one; without an order, all rows.
    pub fn usual() -> Self {
        Self {
            unit: FrameUnit::Range,
            start: FrameBound::UnboundedPreceding,
            end: FrameBound::CurrentRow,
            exclude: FrameExclusion::NoOthers,
        }
    }

    fn bounds(&self) -> impl Iterator<Item = &Expr> {
        [&self.start, &self.end].into_iter().filter_map(|bound| match bound {
            FrameBound::Preceding(distance) | FrameBound::Following(distance) => Some(distance),
            _ => None,
        })
    }
}

impl WindowFunction {
    pub const NAMED: &'static [(&'static str, Self)] = &[
        ("ROW_NUMBER", Self::RowNumber),
        ("RANK", Self::Rank),
        ("DENSE_RANK", Self::DenseRank),
        ("PERCENT_RANK", Self::PercentRank),
        ("CUME_DIST", Self::CumeDist),
        ("NTILE", Self::Ntile),
        ("LEAD", Self::Lead),
        ("LAG", Self::Lag),
        ("FIRST_VALUE", Self::FirstValue),
        ("LAST_VALUE", Self::LastValue),
        ("NTH_VALUE", Self::NthValue),
    ];

    /// A window function that is no aggregate, by its name; case does not matter.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::NAMED.iter().find(|(known, _)| name.eq_ignore_ascii_case(known)).map(|(_, function)| function.clone())
    }

    /// Its name.
    pub fn name(&self) -> &'static str {
        let same = |function: &Self| std::mem::discriminant(function) == std::mem::discriminant(self);
        match self {
            Self::Aggregate(aggregate) => aggregate.function.name(),
            Self::NextValue(_) => "NEXT VALUE FOR",
            _ => Self::NAMED.iter().find(|(_, function)| same(function)).map_or("", |(name, _)| name),
        }
    }

    /// Whether it looks at a frame, and not at the entire partition.
    pub fn uses_frame(&self) -> bool {
        matches!(self, Self::FirstValue | Self::LastValue | Self::NthValue | Self::Aggregate(_))
    }
}

impl WindowCall {
    /// `ROW_NUMBER()`
    pub fn row_number(span: Span) -> Self {
        let (function, frame) = (WindowFunction::RowNumber, Frame::usual());
        Self { function, arguments: Vec::new(), frame, from_last: false, ignore_nulls: false, span }
    }

    /// Every expression in it.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        let aggregate = match &self.function {
            WindowFunction::Aggregate(aggregate) => Some(aggregate.exprs()),
            _ => None,
        };
        self.arguments.iter().chain(self.frame.bounds()).chain(aggregate.into_iter().flatten())
    }

    /// The same call with each expression changed.
    pub fn map_exprs<E>(mut self, change: &mut impl FnMut(Expr) -> Result<Expr, E>) -> Result<Self, E> {
        self.arguments = self.arguments.into_iter().map(&mut *change).collect::<Result<_, E>>()?;
        let mut bound = |bound| -> Result<FrameBound<Expr>, E> {
            Ok(match bound {
                FrameBound::Preceding(distance) => FrameBound::Preceding(change(distance)?),
                FrameBound::Following(distance) => FrameBound::Following(change(distance)?),
                other => other,
            })
        };
        self.frame.start = bound(self.frame.start)?;
        self.frame.end = bound(self.frame.end)?;
        if let WindowFunction::Aggregate(aggregate) = self.function {
            self.function = WindowFunction::Aggregate(Box::new(aggregate.map_exprs(change)?));
        }
        Ok(self)
    }
}
