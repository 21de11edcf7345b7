//! Transactions that are repeated when they lose to others.

use super::Session;
use crate::diagnostic::{Error, Result, SqlState};

impl Session {
    /// Runs `work` as a transaction: commits when it gives a value, and rolls back when it gives an error. A transaction that could not
    /// be kept beside those of other sessions (40001) is begun again, `retries` times at most, so that `work` may run several times.
    ///
    /// ```
    /// # fn main() -> garden_gate::Result<()> {
    /// let mut session = garden_gate::Database::in_memory().session();
    /// session.run("CREATE TABLE bed (id INTEGER PRIMARY KEY)")?;
    /// let inserted = session.transaction(3, |session| {
    ///     session.execute("INSERT INTO bed VALUES (?)", [1])?;
    ///     session.execute("INSERT INTO bed VALUES (?)", [2])
    /// })?;
    /// assert_eq!(inserted, 1);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// That of `work`; 25001 when a transaction is open; 40001 when the last try was lost too, and whatever COMMIT meets.
    pub fn transaction<T>(&mut self, retries: u32, mut work: impl FnMut(&mut Self) -> Result<T>) -> Result<T> {
        if self.transaction.is_some() {
            let message = "a transaction is open: it can't contain another";
            return Err(Error::new(SqlState::ACTIVE_TRANSACTION, message).with_help("COMMIT or ROLLBACK it first"));
        }
        let mut left = retries;
        loop {
            self.run("START TRANSACTION")?;
            let outcome = work(self).and_then(|value| self.run("COMMIT").map(|_| value));
            if outcome.is_err() && self.transaction.is_some() {
                self.run("ROLLBACK")?;
            }
            match outcome {
                Err(error) if error.sqlstate() == SqlState::SERIALIZATION && left > 0 => left -= 1,
                outcome => return outcome,
            }
        }
    }
}
