//! Joins of every kind. The build side is gathered and held, with a hash table where there are keys; each probe batch finds its
//! candidates there, or takes every build row. Rows come in the order of the probe side, matches of one row in the order of the build
//! side; build rows without a match, where they are kept, come at the end.

use super::filter::Filter;
use super::nearest_join::FirstMatches;
use super::pipeline::{Flow, Transform};
use super::range_join::{RangeValues, Ranges};
use crate::control::Control;
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::{Batch, JoinTable, NearestTable, RangeTable, SortedTable, evaluate};
use crate::logical::{Expr, JoinKind};
use crate::types::index;
use arrow::array::{ArrayRef, BooleanArray, UInt32Array, new_null_array};
use arrow::datatypes::DataType;
use std::cell::Cell;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Where a column of the result comes from.
#[derive(Clone, Copy, Debug)]
pub(super) enum ColumnSource {
    Probe(usize),
    Build(usize),
    /// Of a single join: whether there was a second match.
    Several,
}

/// What is kept of the build side.
pub(super) struct BuildSide {
    pub(super) batch: Batch,
    pub(super) lookup: Lookup,
    /// The memory of both.
    pub(super) _held: MemoryReservation,
}

/// How the candidates of a probe row are found.
pub(super) enum Lookup {
    /// Every build row is one.
    All,
    Hash(JoinTable),
    Sorted(SortedTable),
    Range(RangeTable),
    Nearest(NearestTable),
    /// They were found: for each build row the probe row it belongs to, in order.
    Found(Vec<u32>),
}

impl Lookup {
    /// Bytes that the table holds.
    pub(super) fn bytes(&self) -> usize {
        match self {
            Self::Hash(table) => table.bytes(),
            Self::Sorted(table) => table.bytes(),
            Self::Range(table) => table.bytes(),
            Self::Nearest(table) => table.bytes(),
            Self::All | Self::Found(_) => 0,
        }
    }
}

/// A join whose build side is gathered once.
pub(super) struct Join<'a> {
    pub(super) matching: Matching<'a>,
    pub(super) build: Arc<BuildSide>,
}

/// What is done with each probe row and its candidates.
pub(super) struct Matching<'a> {
    pub(super) kind: JoinKind,
    /// Whether the build side leads.
    pub(super) mirrored: bool,
    pub(super) control: &'a Control,
    /// The probe side's keys.
    pub(super) keys: Vec<Expr>,
    /// Of a range join the probe side's operands.
    pub(super) ranges: Option<Ranges>,
    /// The inequalities once more, for pairs of rows for which a side of one fails.
    pub(super) recheck: Option<Filter<'a>>,
    /// Of a nearest join: which matches count.
    pub(super) nearest: Option<FirstMatches<'a>>,
    /// The columns of a pair, as the residual condition sees them.
    pub(super) pair: Vec<ColumnSource>,
    /// Tests what is not a key.
    pub(super) residual: Option<Filter<'a>>,
    /// The columns of the result.
    pub(super) output: Vec<ColumnSource>,
    /// The types of the result's columns, for rows that lack a side.
    pub(super) types: Vec<DataType>,
    /// Which build rows have had a match; of use when those without one are kept, or only those with one.
    pub(super) matched: Vec<AtomicBool>,
    pub(super) batch_rows: usize,
}

/// The keys of a batch, one array each.
pub(super) fn keys(exprs: &[Expr], batch: &Batch) -> Result<Vec<ArrayRef>> {
    exprs.iter().map(|expr| evaluate(expr, batch)?.into_array(batch.rows)).collect()
}

/// Pairs of a probe row and a build row.
#[derive(Default)]
pub(super) struct Pairs {
    pub(super) probe: Vec<u32>,
    pub(super) build: Vec<u32>,
}

impl Pairs {
    fn len(&self) -> usize {
        self.probe.len()
    }
}

/// The columns of pairs.
pub(super) fn gather(columns: &[ColumnSource], probe: &Batch, build: &Batch, pairs: &Pairs) -> Result<Batch> {
    let rows = pairs.len();
    let (probe_rows, build_rows) = (UInt32Array::from(pairs.probe.clone()), UInt32Array::from(pairs.build.clone()));
    // Where each row has one match, as by a foreign key, its columns stay as they are.
    let is_each = rows == probe.rows && pairs.probe.iter().zip(0..).all(|(row, at)| *row == at);
    let column = |from: &ColumnSource| match from {
        ColumnSource::Probe(at) if is_each => Ok(Arc::clone(&probe.columns[*at])),
        ColumnSource::Probe(at) => arrow::compute::take(&probe.columns[*at], &probe_rows, None),
        ColumnSource::Build(at) => arrow::compute::take(&build.columns[*at], &build_rows, None),
        ColumnSource::Several => Ok(Arc::new(BooleanArray::from(vec![false; rows])) as ArrayRef),
    };
    Ok(Batch::new(columns.iter().map(column).collect::<Result<_, _>>()?, rows))
}

/// Whether there are rows for which a side of an inequality fails.
fn is_open(lookup: &Lookup, values: Option<&RangeValues>) -> bool {
    matches!(lookup, Lookup::Range(table) if table.is_open()) || values.is_some_and(|values| !values.open.is_empty())
}

impl Matching<'_> {
    /// Gives pairs of each probe row with its candidates to `visit`, in blocks, until it has enough; probe rows in order.
    fn candidates(
        &self,
        build: &BuildSide,
        batch: &Batch,
        mut visit: impl FnMut(Pairs) -> Result<Flow>,
    ) -> Result<Flow> {
        if let Lookup::Hash(table) = &build.lookup
            && let Some((probe, build)) = table.unique_pairs(&keys(&self.keys, batch)?, batch.rows)?
        {
            return if probe.is_empty() { Ok(Flow::More) } else { visit(Pairs { probe, build }) };
        }
        let mut pairs = Pairs::default();
        let flow = Cell::new(Flow::More);
        let values = match (&self.ranges, &build.lookup) {
            (Some(ranges), Lookup::Range(_)) => Some(ranges.values(batch)?),
            _ => None,
        };
        let recheck = self.recheck.as_ref().filter(|_| is_open(&build.lookup, values.as_ref()));
        let mut visit = |pairs: Pairs| match recheck {
            Some(recheck) => visit(self.kept(recheck, (build, batch), &pairs)?),
            None => visit(pairs),
        };
        let mut add = |probe: u32, build: u32| {
            if flow.get() == Flow::Enough {
                return Ok(());
            }
            pairs.probe.push(probe);
            pairs.build.push(build);
            if pairs.len() == self.batch_rows {
                // Very many pairs may pass before one fulfils the condition.
                self.control.check()?;
                flow.set(visit(std::mem::take(&mut pairs))?);
            }
            Ok(())
        };
        match &build.lookup {
            Lookup::Hash(table) => table.probe(&keys(&self.keys, batch)?, batch.rows, add)?,
            Lookup::Sorted(table) => table.probe(&keys(&self.keys, batch)?, batch.rows, add)?,
            Lookup::Range(table) => self.in_ranges((table, values.as_ref()), batch, |probe, build| {
                add(probe, build)?;
                Ok(flow.get() == Flow::More)
            })?,
            Lookup::Nearest(table) => {
                let found = self.first_matches(table, build, batch)?;
                for (probe, build) in found.probe.iter().zip(&found.build) {
                    add(*probe, *build)?;
                }
            }
            Lookup::Found(probes) => {
                for (build, probe) in probes.iter().enumerate() {
                    add(*probe, index(build))?;
                }
            }
            Lookup::All => {
                for probe in 0..index(batch.rows) {
                    if flow.get() == Flow::Enough {
                        break;
                    }
                    for build in 0..index(build.batch.rows) {
                        add(probe, build)?;
                    }
                }
            }
        }
        if pairs.len() > 0 && flow.get() == Flow::More { visit(pairs) } else { Ok(flow.get()) }
    }

    /// Gives each probe row with each build row that fulfils the inequalities to `found`, until it says that the row needs no more.
    fn in_ranges(
        &self,
        (table, values): (&RangeTable, Option<&RangeValues>),
        batch: &Batch,
        found: impl FnMut(u32, u32) -> Result<bool>,
    ) -> Result<()> {
        let Some(RangeValues { first, second, open }) = values else { return Ok(()) };
        table.probe(&keys(&self.keys, batch)?, (first, second.as_ref()), (batch.rows, open), found)
    }

    /// The pairs that fulfil the residual condition.
    fn matching_rows(&self, build: &BuildSide, batch: &Batch, pairs: Pairs) -> Result<Pairs> {
        match &self.residual {
            Some(residual) => self.kept(residual, (build, batch), &pairs),
            None => Ok(pairs),
        }
    }

    /// The pairs that pass a filter.
    fn kept(&self, filter: &Filter<'_>, (build, batch): (&BuildSide, &Batch), pairs: &Pairs) -> Result<Pairs> {
        let mask = filter.mask(&gather(&self.pair, batch, &build.batch, pairs)?)?;
        let kept = |rows: &[u32]| mask.values().set_indices().map(|at| rows[at]).collect();
        Ok(Pairs { probe: kept(&pairs.probe), build: kept(&pairs.build) })
    }

    fn note_matched(&self, pairs: &Pairs) {
        if !self.matched.is_empty() {
            pairs.build.iter().for_each(|row| self.matched[*row as usize].store(true, Ordering::Relaxed));
        }
    }

    fn emit_pairs(
        &self,
        build: &BuildSide,
        batch: &Batch,
        pairs: &Pairs,
        emit: &mut dyn FnMut(Batch) -> Result<Flow>,
    ) -> Result<Flow> {
        if pairs.len() == 0 {
            return Ok(Flow::More);
        }
        emit(gather(&self.output, batch, &build.batch, pairs)?)
    }

    /// Left and full joins, and single ones: the matches of each probe row, or one row filled up with NULLs.
    fn outer(&self, build: &BuildSide, batch: &Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let mut done = 0;
        if self.kind == JoinKind::Single {
            // Of each probe row at most two matches count, and both must be seen together.
            let mut kept = Pairs::default();
            self.candidates(build, batch, |pairs| {
                let partners = self.matching_rows(build, batch, pairs)?;
                for (probe, build) in partners.probe.iter().zip(&partners.build) {
                    if kept.probe.iter().rev().take(2).filter(|known| *known == probe).count() < 2 {
                        kept.probe.push(*probe);
                        kept.build.push(*build);
                    }
                }
                Ok(Flow::More)
            })?;
            return self.emit_filled((build, batch), &kept, (&mut done, Some(index(batch.rows))), emit);
        }
        let flow = self.candidates(build, batch, |pairs| {
            let partners = self.matching_rows(build, batch, pairs)?;
            self.note_matched(&partners);
            self.emit_filled((build, batch), &partners, (&mut done, None), emit)
        })?;
        if flow == Flow::Enough {
            return Ok(flow);
        }
        self.emit_filled((build, batch), &Pairs::default(), (&mut done, Some(index(batch.rows))), emit)
    }

    /// Emits matches, and before them the probe rows from `done` on that were skipped without one.
    fn emit_filled(
        &self,
        (build, batch): (&BuildSide, &Batch),
        partners: &Pairs,
        (done, end): (&mut u32, Option<u32>),
        emit: &mut dyn FnMut(Batch) -> Result<Flow>,
    ) -> Result<Flow> {
        let mut rows: (Vec<u32>, Vec<Option<u32>>) = (Vec::new(), Vec::new());
        let mut several: Vec<bool> = Vec::new();
        let fill = |to: u32, rows: &mut (Vec<u32>, Vec<Option<u32>>), done: &mut u32| {
            while *done < to {
                rows.0.push(*done);
                rows.1.push(None);
                *done += 1;
            }
        };
        for (probe, build) in partners.probe.iter().zip(&partners.build) {
            fill(*probe, &mut rows, done);
            if self.kind == JoinKind::Single && *done > *probe {
                // A second match: the first one's row says so.
                several.resize(rows.0.len(), false);
                if let Some(last) = several.last_mut() {
                    *last = true;
                }
                continue;
            }
            rows.0.push(*probe);
            rows.1.push(Some(*build));
            *done = probe + 1;
        }
        if let Some(end) = end {
            fill(end, &mut rows, done);
        }
        if rows.0.is_empty() {
            return Ok(Flow::More);
        }
        let count = rows.0.len();
        several.resize(count, false);
        let (probe_rows, build_rows) = (UInt32Array::from(rows.0), UInt32Array::from(rows.1));
        let column = |from: &ColumnSource| match from {
            ColumnSource::Probe(at) => arrow::compute::take(&batch.columns[*at], &probe_rows, None),
            ColumnSource::Build(at) => arrow::compute::take(&build.batch.columns[*at], &build_rows, None),
            ColumnSource::Several => Ok(Arc::new(BooleanArray::from(several.clone())) as ArrayRef),
        };
        emit(Batch::new(self.output.iter().map(column).collect::<Result<_, _>>()?, count))
    }

    /// The probe rows that have a match, or those that have none.
    fn semi(&self, build: &BuildSide, batch: &Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let mut has = vec![false; batch.rows];
        if self.residual.is_none()
            && let Lookup::Hash(table) = &build.lookup
        {
            table.contains(&keys(&self.keys, batch)?, &mut has)?;
        } else if self.residual.is_none()
            && self.recheck.is_none()
            && let (Lookup::Range(table), Some(ranges)) = (&build.lookup, &self.ranges)
        {
            self.in_ranges((table, Some(&ranges.values(batch)?)), batch, |probe, _| {
                has[probe as usize] = true;
                Ok(false)
            })?;
        } else {
            self.candidates(build, batch, |pairs| {
                let partners = self.matching_rows(build, batch, pairs)?;
                partners.probe.iter().for_each(|row| has[*row as usize] = true);
                Ok(Flow::More)
            })?;
        }
        if self.kind == JoinKind::Anti {
            has.iter_mut().for_each(|has| *has = !*has);
        }
        let mask = BooleanArray::from(has);
        let count = mask.values().count_set_bits();
        if count == 0 {
            return Ok(Flow::More);
        }
        let columns = self.output.iter().map(|from| match from {
            ColumnSource::Probe(at) | ColumnSource::Build(at) => Arc::clone(&batch.columns[*at]),
            ColumnSource::Several => new_null_array(&DataType::Boolean, batch.rows),
        });
        emit(Batch::new(columns.collect(), batch.rows).filter(&mask, count)?)
    }

    /// Joins a batch of the probe side with the build side.
    pub(super) fn join(
        &self,
        build: &BuildSide,
        batch: &Batch,
        emit: &mut dyn FnMut(Batch) -> Result<Flow>,
    ) -> Result<Flow> {
        match self.kind {
            JoinKind::Full => self.outer(build, batch, emit),
            JoinKind::Left | JoinKind::Single if !self.mirrored => self.outer(build, batch, emit),
            JoinKind::Semi | JoinKind::Anti if !self.mirrored => self.semi(build, batch, emit),
            JoinKind::Inner | JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Mark | JoinKind::Single => {
                self.candidates(build, batch, |pairs| {
                    let partners = self.matching_rows(build, batch, pairs)?;
                    self.note_matched(&partners);
                    if matches!(self.kind, JoinKind::Semi | JoinKind::Anti) {
                        return Ok(Flow::More);
                    }
                    self.emit_pairs(build, batch, &partners, emit)
                })
            }
        }
    }

    /// The build rows that a mirrored or full join gives at the end: of a semi join those with a match, else those without.
    pub(super) fn rest(&self, build: &BuildSide, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        if self.matched.is_empty() {
            return Ok(Flow::More);
        }
        let wanted = self.kind == JoinKind::Semi;
        let rows: Vec<u32> = self
            .matched
            .iter()
            .enumerate()
            .filter(|(_, matched)| matched.load(Ordering::Relaxed) == wanted)
            .map(|(row, _)| index(row))
            .collect();
        for block in rows.chunks(self.batch_rows) {
            self.control.check()?;
            let places = UInt32Array::from(block.to_vec());
            let column = |(from, data_type): (&ColumnSource, &DataType)| match from {
                ColumnSource::Build(at) => arrow::compute::take(&build.batch.columns[*at], &places, None),
                ColumnSource::Probe(_) | ColumnSource::Several => Ok(new_null_array(data_type, block.len())),
            };
            let columns = self.output.iter().zip(&self.types).map(column).collect::<Result<_, _>>()?;
            if emit(Batch::new(columns, block.len()))? == Flow::Enough {
                return Ok(Flow::Enough);
            }
        }
        Ok(Flow::More)
    }
}

impl Transform for Join<'_> {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        self.matching.join(&self.build, &batch, emit)
    }

    fn rest(&self, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        self.matching.rest(&self.build, emit)
    }
}
