//! The list of runs: of each no more than its line needs, so that thousands are listed at once.

use std::borrow::Cow;

use fonex_core::Outcome;
use serde::{Deserialize, Serialize};

use crate::database::values;
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

impl Listed {
    /// Timed trials that have an outcome.
    pub(crate) fn trials(&self) -> u64 {
        self.outcomes.iter().map(|(_, trials)| trials).sum()
    }
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
        let rows = self.database.rows(sql, &[], |row| {
            let listed: Option<Listed> =
                row.get::<Option<Cow<'_, str>>>(5)?.map(|listed| serde_json::from_str(&listed)).transpose()?;
            let run = ListedRun {
                id: row.get(0)?,
                label: row.get(1)?,
                plan: row.get(2)?,
                started_at: row.get(3)?,
                state: read_state(row, 4)?,
                planned: 0,
                variants: Vec::new(),
                outcomes: Vec::new(),
            };
            Ok((run, listed))
        })?;
        let whole = |(run, listed): (ListedRun, Option<Listed>)| {
            // Where nothing was put down its trials are still coming.
            let Listed { planned, variants, outcomes } = listed.map_or_else(|| self.listed_now(run.id), Ok)?;
            Ok(ListedRun { planned, variants, outcomes, ..run })
        };
        rows.into_iter().map(whole).collect()
    }

    /// What is to be said of a run now.
    pub(crate) fn listed_now(&self, run: i64) -> Result<Listed, StoreError> {
        let sql = "select record from runs where id = $1";
        let record: String = self.database.only(sql, values![run], |row| row.get(0))?;
        let Short { planned, variants } = serde_json::from_str(&record)?;
        let variants = variants.into_iter().map(|variant| variant.name).collect();
        Ok(Listed { planned, variants, outcomes: self.outcomes(run)? })
    }
}
