//! Measurements that are no runs of trials: load put on an engine, turns of a conversation.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::database::{Row, values};
use crate::{Machine, Store, StoreError};

/// What a study measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum StudyKind {
    /// An engine under load.
    Load,
    /// Turns of a conversation.
    Turns,
    /// Voices rated by listeners.
    Panel,
}

impl StudyKind {
    /// Its name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Load => "load",
            Self::Turns => "turns",
            Self::Panel => "panel",
        }
    }
}

/// A study. Its number, counted over all kinds, is the store's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Study {
    /// What it measured.
    pub kind: StudyKind,
    /// When it was made, RFC 3339.
    pub made_at: String,
    /// The machine it was made on.
    pub machine: Machine,
    /// The program that made it.
    pub fonex_version: String,
    /// Its figures, as its command prints them.
    pub figures: Value,
}

impl Store {
    /// Keeps a study; gives its number.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn add_study(&self, study: &Study) -> Result<i64, StoreError> {
        let sql = "insert into studies (kind, record) values ($1, $2)";
        self.inserted(sql, values![study.kind.as_str(), serde_json::to_string(study)?])
    }

    /// Every study with its number, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn studies(&self) -> Result<Vec<(i64, Study)>, StoreError> {
        self.database.rows("select id, record from studies order by id", &[], read)
    }

    /// The study of a kind with this number, or the newest.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn study(&self, kind: StudyKind, id: Option<i64>) -> Result<Option<(i64, Study)>, StoreError> {
        let sql = "select id, record from studies where kind = $1 and (cast($2 as bigint) is null or id = $2)
             order by id desc limit 1";
        self.database.first(sql, values![kind.as_str(), id], read)
    }
}

fn read(row: &Row<'_>) -> Result<(i64, Study), StoreError> {
    Ok((row.get(0)?, serde_json::from_str(&row.get::<Cow<'_, str>>(1)?)?))
}
