//! The list of runs: of each no more than its line needs, so that thousands are listed at once.

use fonex_core::Outcome;
use serde::{Deserialize, Serialize};

use crate::runs::read_state;
use crate::{RunState, Store, StoreError};

/// A run as a list shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedRun {
    /// Number in this store, from 1.
    pub id: i64,
    /// A name for people.
    pub label: Option<String>,
    /// The plan's name.
    pub plan: String,
    /// When it started, RFC 3339 in UTC.
    pub started_at: String,
    /// How far it has come.
    pub state: RunState,
    /// Timed trials planned.
    pub planned: u64,
    /// Names of its variants, in the order of the plan.
    pub variants: Vec<String>,
    /// Its timed trials by outcome.
    pub outcomes: Vec<(Outcome, u64)>,
}

/// What a list says of a run beside its columns.
#[derive(Serialize, Deserialize)]
pub(crate) struct Listed {
    planned: u64,
    variants: Vec<String>,
    outcomes: Vec<(Outcome, u64)>,
}

/// What is read of a run's record.
#[derive(Deserialize)]
struct Short {
    planned: u64,
    variants: Vec<Named>,
}

#[derive(Deserialize)]
struct Named {
    name: String,
}

impl Store {
    /// Every run as a list shows it, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn listed_runs(&self) -> Result<Vec<ListedRun>, StoreError> {
        let sql = "select id, label, plan, started_at, state, listed from runs order by id";
        let mut select = self.connection().prepare(sql)?;
        let rows = select.query_and_then([], |row| {
            let id = row.get(0)?;
            let Listed { planned, variants, outcomes } =
                match row.get_ref(5)?.as_str_or_null().map_err(rusqlite::Error::from)? {
                    Some(listed) => serde_json::from_str(listed)?,
                    // Its trials are still coming.
                    None => self.listed_now(id)?,
                };
            let (label, plan, started_at, state) = (row.get(1)?, row.get(2)?, row.get(3)?, read_state(row, 4)?);
            Ok(ListedRun { id, label, plan, started_at, state, planned, variants, outcomes })
        })?;
        rows.collect()
    }

    /// What is to be said of a run now.
    pub(crate) fn listed_now(&self, run: i64) -> Result<Listed, StoreError> {
        let mut select = self.connection().prepare_cached("select record from runs where id = $1")?;
        let record: String = select.query_row([run], |row| row.get(0))?;
        let Short { planned, variants } = serde_json::from_str(&record)?;
        let variants = variants.into_iter().map(|variant| variant.name).collect();
        Ok(Listed { planned, variants, outcomes: self.outcomes(run)? })
    }
}
