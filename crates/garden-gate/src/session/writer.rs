//! Turns at writing: one session at a time changes a database, in the order in which they asked.

use crate::control::checkpoint;
use crate::diagnostic::{Error, Result, SqlState};
use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How often a session that waits looks at its limits.
const LOOK: Duration = Duration::from_millis(20);

/// How long others wait for a transaction that took the right to write from its beginning: one that is at work needs less, and one that idles
/// must not keep them from theirs.
const PATIENCE: Duration = Duration::from_millis(250);

/// The sessions that write and wait to write.
#[derive(Debug, Default)]
pub(super) struct Writers {
    queue: Mutex<Queue>,
    moved: Condvar,
}

#[derive(Debug, Default)]
struct Queue {
    next: u64,
    /// Who waits, the first one being the one that writes.
    waiting: VecDeque<u64>,
    /// Of a transaction between its statements: who has waited long enough takes the right from it.
    yielding: Option<u64>,
}

/// The right to write, until it is dropped.
#[derive(Debug)]
pub(super) struct Turn {
    writers: Arc<Writers>,
    number: u64,
}

impl Writers {
    /// Waits for the sessions that asked before, as long as `most` where that is given.
    ///
    /// # Errors
    /// HY008 and HYT00 when the statement is to end meanwhile, HYT00 past `most`.
    pub(super) fn turn(self: &Arc<Self>, most: Option<Duration>) -> Result<Turn> {
        let started = Instant::now();
        let mut queue = self.queue.lock().unwrap_or_else(PoisonError::into_inner);
        let number = queue.next;
        queue.next += 1;
        queue.waiting.push_back(number);
        // Dropped when waiting ends early: the place in the queue is given up.
        let turn = Turn { writers: Arc::clone(self), number };
        while queue.waiting.front() != Some(&number) {
            if queue.waiting.front().copied() == queue.yielding && started.elapsed() > PATIENCE {
                queue.waiting.pop_front();
                queue.yielding = None;
                self.moved.notify_all();
                continue;
            }
            queue = self.moved.wait_timeout(queue, LOOK).map_or_else(|error| error.into_inner().0, |(queue, _)| queue);
            let waited = started.elapsed();
            let outcome = match most {
                Some(most) if waited > most => Err(waited_too_long(most)),
                _ => checkpoint(),
            };
            if let Err(error) = outcome {
                drop(queue);
                drop(turn);
                return Err(error);
            }
        }
        Ok(turn)
    }
}

impl Turn {
    /// Lets others take the right when they have waited a while.
    pub(super) fn yielding(self) -> Self {
        self.writers.queue.lock().unwrap_or_else(PoisonError::into_inner).yielding = Some(self.number);
        self
    }

    /// The right, for good, unless it has been taken.
    pub(super) fn kept(self) -> Option<Self> {
        let mut queue = self.writers.queue.lock().unwrap_or_else(PoisonError::into_inner);
        let is_held = queue.waiting.front() == Some(&self.number);
        if is_held {
            queue.yielding = None;
        }
        drop(queue);
        is_held.then_some(self)
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        let mut queue = self.writers.queue.lock().unwrap_or_else(PoisonError::into_inner);
        queue.waiting.retain(|number| *number != self.number);
        if queue.yielding == Some(self.number) {
            queue.yielding = None;
        }
        // Waking costs a call of the system, whether somebody waits or not.
        let is_awaited = !queue.waiting.is_empty();
        drop(queue);
        if is_awaited {
            self.writers.moved.notify_all();
        }
    }
}

fn waited_too_long(most: Duration) -> Error {
    let message = format!("another session has been writing for more than {} ms", most.as_millis());
    Error::new(SqlState::TIMEOUT, message)
        .with_help("run the statement again; SET wait_limit = … waits longer, 0 without end")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_turn_that_yields_is_taken_after_a_while() {
        let writers = Arc::new(Writers::default());
        let soft = writers.turn(None).unwrap().yielding();
        let other = writers.turn(Some(Duration::from_secs(60))).unwrap();
        assert!(soft.kept().is_none());
        drop(other);
        let soft = writers.turn(None).unwrap().yielding();
        let kept = soft.kept().unwrap();
        assert_eq!(writers.turn(Some(2 * PATIENCE)).unwrap_err().sqlstate(), SqlState::TIMEOUT);
        drop(kept);
    }

    #[test]
    fn turns_come_in_the_order_in_which_they_were_asked_for() {
        let writers = Arc::new(Writers::default());
        let first = writers.turn(None).unwrap();
        let early = writers.turn(Some(Duration::from_millis(30))).unwrap_err();
        assert_eq!(early.sqlstate(), SqlState::TIMEOUT);
        let order = Arc::new(Mutex::new(Vec::new()));
        std::thread::scope(|scope| {
            for number in 0..3 {
                let (writers, order) = (Arc::clone(&writers), Arc::clone(&order));
                let waiting = || writers.queue.lock().unwrap().waiting.len();
                scope.spawn({
                    let writers = Arc::clone(&writers);
                    move || {
                        let _turn = writers.turn(None).unwrap();
                        order.lock().unwrap().push(number);
                    }
                });
                while waiting() < number + 2 {
                    std::thread::yield_now();
                }
            }
            drop(first);
        });
        assert_eq!(*order.lock().unwrap(), [0, 1, 2]);
    }
}
