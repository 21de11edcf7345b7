use super::Run;
use super::spill::{Rows, Segment};
use crate::control;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::Batch;
use crate::physical::{Node, NodeId, WORTH_A_WORKER};
use crate::types::{Estimate, approximate, whole_part};
use rayon::ThreadPool;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

/// Batches in one morsel, at most.
const MORSEL_BATCHES: usize = 4;
/// Morsels that each worker shall have, where the work is worth it.
const MORSELS_OF_WORKER: usize = 4;

/// Worker threads, started when a plan first asks for more than one.
#[derive(Debug, Default)]
pub struct Pool {
    threads: OnceLock<Arc<ThreadPool>>,
    workers: usize,
}

impl Pool {
    /// Threads that are started when a pipeline first needs them.
    pub fn new(workers: usize) -> Self {
        Self { threads: OnceLock::new(), workers }
    }

    /// The threads, where there are several workers.
    pub fn shared_threads(&self) -> Result<Option<Arc<ThreadPool>>> {
        if self.workers > 1 { self.kept_threads().map(|threads| Some(Arc::clone(threads))) } else { Ok(None) }
    }

    /// The threads, started now if they were not.
    pub(super) fn threads(&self) -> Result<&ThreadPool> {
        self.kept_threads().map(AsRef::as_ref)
    }

    fn kept_threads(&self) -> Result<&Arc<ThreadPool>> {
        if let Some(threads) = self.threads.get() {
            return Ok(threads);
        }
        let built = rayon::ThreadPoolBuilder::new().num_threads(self.workers).stack_size(64 << 20).build();
        let built = built.map_err(|error| {
            Error::new(SqlState::GENERAL, format!("the {} workers cannot be started", self.workers)).caused_by(error)
        })?;
        Ok(self.threads.get_or_init(|| Arc::new(built)))
    }
}

/// The morsel a batch belongs to, and its place in it: ordered as the input was.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Sequence {
    pub(super) morsel: u32,
    pub(super) batch: u32,
}

impl Sequence {
    /// A number for the first row of the batch that orders rows of all batches: a batch has at most twice 8192 rows (an outer join may
    /// fill up as many as it pairs), and a morsel four million batches.
    pub(super) fn first_row(self) -> u64 {
        (u64::from(self.morsel) << 36) | (u64::from(self.batch) << 14)
    }
}

/// Changes batches on their way; shared by all workers, so any state is after `&self`.
pub(super) trait Transform: Send + Sync {
    /// Gives what becomes of `batch` to `emit`, in order, in as many batches as it likes; it may stop when `emit` says [`Flow::Enough`], and
    /// says so itself then.
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow>;

    /// Gives what is left when all batches have come.
    fn rest(&self, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let _ = emit;
        Ok(Flow::More)
    }
}

/// The end of a pipeline.
pub(super) trait Sink: Sync {
    /// What one worker gathers.
    type Local: Send;
    type Output;

    fn local(&self) -> Result<Self::Local>;

    /// Takes one batch, and says what else is needed.
    fn push(&self, local: &mut Self::Local, at: Sequence, batch: Batch) -> Result<Flow>;

    /// Merges what the workers gathered.
    fn finish(&self, locals: Vec<Self::Local>) -> Result<Self::Output>;
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Flow {
    More,
    /// The rest of the morsel, and no later one; only ever from a sink.
    LastMorsel,
    /// Nothing that comes later, in the morsel or after it.
    Enough,
}

/// Batches that are made as they are asked for.
pub(super) type Batches<'a> = Box<dyn Iterator<Item = Result<Batch>> + Send + 'a>;

/// Batches of a source that is asked for the next one when a worker is free, and how many it gave.
struct Feed<'a> {
    batches: Batches<'a>,
    given: usize,
}

/// A source and the steps its batches go through.
pub(super) struct Pipeline<'a> {
    /// The rows of the source, with the columns the first step expects.
    pub(super) source: Rows,
    /// The source instead, where it is asked batch by batch: each batch is a morsel.
    feed: Option<Mutex<Feed<'a>>>,
    pub(super) steps: Vec<PipelineStep<'a>>,
    /// What the steps are estimated to cost for one row of the source.
    row_cost: f64,
    expected: f64,
}

/// A transform and the node it belongs to.
pub(super) struct PipelineStep<'a> {
    pub(super) node: NodeId,
    pub(super) transform: Box<dyn Transform + 'a>,
}

/// A morsel: rows `offset .. offset + rows` of one segment.
#[derive(Clone, Copy)]
struct Morsel {
    segment: usize,
    offset: usize,
    rows: usize,
}

/// What all workers of a pipeline share.
struct Job<'j, S> {
    sink: &'j S,
    sink_node: Option<NodeId>,
    run: &'j Run<'j>,
    morsels: &'j [Morsel],
    /// The morsel that is handed out next.
    next: &'j AtomicUsize,
}

impl<S> Job<'_, S> {
    /// No worker gets another morsel. A count that all threads may still add to.
    const STOPPED: usize = usize::MAX / 2;

    fn stop(&self) {
        self.next.store(Self::STOPPED, Ordering::Relaxed);
    }

    fn is_stopped(&self) -> bool {
        self.next.load(Ordering::Relaxed) >= Self::STOPPED
    }
}

fn lock<'f, 'a>(feed: &'f Mutex<Feed<'a>>) -> MutexGuard<'f, Feed<'a>> {
    feed.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<'a> Pipeline<'a> {
    /// `expected` is how many rows the source was estimated to have when its steps were.
    pub(super) fn of(source: Rows, expected: Estimate) -> Self {
        Self { source, feed: None, steps: Vec::new(), row_cost: 0.0, expected: expected.0.max(1.0) }
    }

    /// A pipeline of a source that is asked batch by batch. It is driven once.
    pub(super) fn fed(batches: Batches<'a>, expected: Estimate) -> Self {
        let feed = Feed { batches, given: 0 };
        Self { feed: Some(Mutex::new(feed)), ..Self::of(Rows::default(), expected) }
    }

    /// Whether more than one worker has something to do.
    fn is_worth_workers(&self, morsels: &[Morsel]) -> bool {
        // How many batches a source gives that is asked for them is known at its end only.
        if self.feed.is_some() { self.row_cost * self.expected > WORTH_A_WORKER } else { morsels.len() > 1 }
    }

    /// Adds a step after the others.
    pub(super) fn push(&mut self, node: &Node, transform: impl Transform + 'a) {
        self.steps.push(PipelineStep { node: node.id, transform: Box::new(transform) });
        self.row_cost += node.own.0 / self.expected;
    }

    /// Rows of a morsel: a few batches; fewer where there would not be morsels enough for all workers though each row is much work, as
    /// when a row meets many others.
    fn morsel_rows(&self, batch_rows: usize, workers: usize) -> usize {
        let most = batch_rows * MORSEL_BATCHES;
        let (rows, wanted) =
            (self.source.segments.iter().map(Segment::rows).sum::<usize>(), workers * MORSELS_OF_WORKER);
        // There are enough for all: smaller ones would only be handed out more often.
        if workers < 2 || rows >= most * wanted {
            return most;
        }
        let worth = (self.row_cost * approximate(rows) / WORTH_A_WORKER).min(approximate(wanted)).max(1.0);
        let pieces = whole_part(worth).and_then(|worth| usize::try_from(worth).ok()).unwrap_or(1);
        rows.div_ceil(pieces).clamp(1, most)
    }

    fn morsels(&self, rows: usize) -> Vec<Morsel> {
        let cut = |(number, segment): (usize, &Segment)| {
            let total = segment.rows();
            // A block of a file is read at once.
            let rows = if matches!(segment, Segment::File(..)) { total } else { rows };
            let starts = (0..total).step_by(rows.max(1));
            starts.map(move |offset| Morsel { segment: number, offset, rows: rows.min(total - offset) })
        };
        self.source.segments.iter().enumerate().flat_map(cut).collect()
    }

    /// Runs all morsels into the sink, on `workers` workers where there is work for them.
    pub(super) fn drive<S: Sink>(
        &self,
        sink: &S,
        sink_node: Option<NodeId>,
        run: &Run<'_>,
        workers: usize,
    ) -> Result<S::Output> {
        run.control.check()?;
        let morsels = self.morsels(self.morsel_rows(run.batch_rows, workers));
        let next = AtomicUsize::new(0);
        let job = Job { sink, sink_node, run, morsels: &morsels, next: &next };
        let work = || -> Result<S::Local> {
            let mut local = sink.local()?;
            let outcome = self.work(&job, &mut local);
            if outcome.is_err() {
                // The others stop at their next morsel.
                job.stop();
            }
            outcome.map(|()| local)
        };
        let mut locals = if workers > 1 && self.is_worth_workers(&morsels) {
            let statement = control::current();
            let helping = |_: rayon::BroadcastContext<'_>| {
                let _entered = control::enter(statement.as_ref());
                work()
            };
            run.pool.threads()?.broadcast(helping).into_iter().collect::<Result<Vec<_>>>()?
        } else {
            vec![work()?]
        };
        if let Some(local) = locals.first_mut() {
            self.rest(&job, local)?;
        }
        let start = Instant::now();
        let output = sink.finish(locals);
        if let (Some(measures), Some(node)) = (run.measures, sink_node) {
            measures.of(node).add_time(start.elapsed());
        }
        output
    }

    /// What steps give when all batches have gone through them; each step's rest goes through those after it.
    fn rest<S: Sink>(&self, job: &Job<'_, S>, local: &mut S::Local) -> Result<()> {
        let given = self.feed.as_ref().map_or(job.morsels.len(), |feed| lock(feed).given);
        for (number, step) in self.steps.iter().enumerate() {
            let mut at = Sequence { morsel: crate::types::index(given + number), batch: 0 };
            let mut deliver = |batch: Batch| {
                let flow = job.sink.push(local, at, batch)?;
                at.batch += 1;
                Ok(flow)
            };
            step.transform.rest(&mut |batch| {
                if let Some(measures) = job.run.measures {
                    measures.of(step.node).add_output(batch.rows);
                }
                self.send(number + 1, batch, job.run, &mut deliver)
            })?;
        }
        Ok(())
    }

    /// The number of the next morsel, and its rows: so many of a batch, from an offset.
    fn next_morsel<S>(&self, job: &Job<'_, S>) -> Result<Option<(usize, Batch, Morsel)>> {
        if let Some(feed) = &self.feed {
            let mut feed = lock(feed);
            if job.is_stopped() {
                return Ok(None);
            }
            let Some(batch) = feed.batches.next().transpose()? else {
                job.stop();
                return Ok(None);
            };
            feed.given += 1;
            let rows = batch.rows;
            return Ok(Some((feed.given - 1, batch, Morsel { segment: 0, offset: 0, rows })));
        }
        // Workers need different numbers, nothing else: what they read was there before they began.
        let number = job.next.fetch_add(1, Ordering::Relaxed);
        let Some(morsel) = job.morsels.get(number) else { return Ok(None) };
        Ok(Some((number, self.source.segments[morsel.segment].read()?, *morsel)))
    }

    fn work<S: Sink>(&self, job: &Job<'_, S>, local: &mut S::Local) -> Result<()> {
        let Job { sink, sink_node, run, .. } = *job;
        let mut flow = Flow::More;
        loop {
            run.control.check()?;
            if flow != Flow::More {
                return Ok(());
            }
            let Some((number, segment, morsel)) = self.next_morsel(job)? else { return Ok(()) };
            let mut at = Sequence { morsel: crate::types::index(number), batch: 0 };
            for offset in (0..morsel.rows).step_by(run.batch_rows) {
                let batch = segment.slice(morsel.offset + offset, run.batch_rows.min(morsel.rows - offset));
                let mut deliver = |batch: Batch| {
                    let start = run.measures.map(|_| Instant::now());
                    let pushed = sink.push(local, at, batch);
                    at.batch += 1;
                    if let (Some(measures), Some(node), Some(start)) = (run.measures, sink_node, start) {
                        measures.of(node).add_time(start.elapsed());
                    }
                    flow = pushed?;
                    // The steps go on with what they have.
                    Ok(if flow == Flow::Enough { Flow::Enough } else { Flow::More })
                };
                if self.send(0, batch, run, &mut deliver)? == Flow::Enough {
                    break;
                }
            }
            if flow != Flow::More {
                // Morsels are handed out in order, so all rows before the ones still wanted are on their way.
                job.stop();
            }
        }
    }

    /// Sends a batch through step `at` and those after it.
    fn send(
        &self,
        at: usize,
        batch: Batch,
        run: &Run<'_>,
        deliver: &mut dyn FnMut(Batch) -> Result<Flow>,
    ) -> Result<Flow> {
        let Some(step) = self.steps.get(at) else { return deliver(batch) };
        // Without measures no clock is read: of short batches that would be a good part of the work.
        let Some(measures) = run.measures else {
            return step.transform.apply(batch, &mut |batch| {
                run.control.check()?;
                self.send(at + 1, batch, run, deliver)
            });
        };
        let measure = measures.of(step.node);
        let start = Instant::now();
        let mut behind = Duration::ZERO;
        let flow = step.transform.apply(batch, &mut |batch| {
            run.control.check()?;
            let start = Instant::now();
            measure.add_output(batch.rows);
            let result = self.send(at + 1, batch, run, deliver);
            behind += start.elapsed();
            result
        })?;
        // The time of the steps after it is theirs.
        measure.add_time(start.elapsed().saturating_sub(behind));
        Ok(flow)
    }
}
