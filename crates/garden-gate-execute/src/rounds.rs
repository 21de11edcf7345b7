//! What the rounds of recursions found, kept for those who want to see it.

use crate::kernel::Batch;
use crate::physical::MemberSpec;
use crate::types::SqlType;
use std::sync::{Mutex, PoisonError};

/// The new rows of one round of one member; round 0 is the anchor.
#[derive(Debug)]
pub struct RoundRows {
    pub member: String,
    pub columns: Vec<(String, SqlType)>,
    pub round: u64,
    pub batches: Vec<Batch>,
}

/// The rounds of all recursions of a query, in the order they were run.
#[derive(Debug, Default)]
pub struct RoundLog(Mutex<Vec<RoundRows>>);

impl RoundLog {
    /// Keeps what a round found.
    pub(super) fn add(&self, members: &[MemberSpec], round: u64, found: &[Vec<Batch>]) {
        let mut log = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        for (member, batches) in members.iter().zip(found) {
            let (name, columns) = (member.name.clone(), member.columns.clone());
            log.push(RoundRows { member: name, columns, round, batches: batches.clone() });
        }
    }

    /// The rows of all rounds, in their order.
    pub fn into_rounds(self) -> Vec<RoundRows> {
        self.0.into_inner().unwrap_or_else(PoisonError::into_inner)
    }
}
