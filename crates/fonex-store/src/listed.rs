//! The list of runs: of each no more than its line needs, so that thousands are listed at once.

use fonex_core::Outcome;
use serde::Deserialize;

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
        let sql = "select id, label, plan, started_at, state, record, outcomes from runs order by id";
        let mut select = self.connection().prepare(sql)?;
        let rows = select.query_and_then([], |row| {
            let text = |column| row.get_ref(column)?.as_str_or_null().map_err(rusqlite::Error::from);
            let Short { planned, variants } = serde_json::from_str(text(5)?.unwrap_or_default())?;
            let id = row.get(0)?;
            let outcomes = match text(6)? {
                Some(counted) => serde_json::from_str(counted)?,
                // Its trials are still coming.
                None => self.outcomes(id)?,
            };
            Ok(ListedRun {
                id,
                label: row.get(1)?,
                plan: row.get(2)?,
                started_at: row.get(3)?,
                state: read_state(row, 4)?,
                planned,
                variants: variants.into_iter().map(|variant| variant.name).collect(),
                outcomes,
            })
        })?;
        rows.collect()
    }
}
