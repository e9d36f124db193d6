//! Measurements that are no runs of trials: load put on an engine, turns of a conversation.

use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{Machine, Store, StoreError};

/// What a study measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StudyKind {
    /// An engine under load.
    Load,
    /// Turns of a conversation.
    Turns,
}

impl StudyKind {
    /// Its name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Load => "load",
            Self::Turns => "turns",
        }
    }
}

/// A stored study.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Study {
    /// Its number, counted over all kinds.
    pub id: i64,
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

#[derive(Serialize, Deserialize)]
struct StudyRest {
    machine: Machine,
    fonex_version: String,
    figures: Value,
}

const COLUMNS: &str = "id, kind, made_at, record";

impl Store {
    /// Keeps a study; gives its number. The number in `study` is not looked at.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn add_study(&self, study: Study) -> Result<i64, StoreError> {
        let rest = StudyRest { machine: study.machine, fonex_version: study.fonex_version, figures: study.figures };
        let sql = "insert into studies (kind, made_at, record) values ($1, $2, $3)";
        let record = serde_json::to_string(&rest)?;
        self.connection().execute(sql, params![study.kind.as_str(), study.made_at, record])?;
        Ok(self.connection().last_insert_rowid())
    }

    /// Every study, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn studies(&self) -> Result<Vec<Study>, StoreError> {
        let mut select = self.connection().prepare(&format!("select {COLUMNS} from studies order by id"))?;
        let rows = select.query_and_then([], read)?;
        rows.collect()
    }

    /// The study of a kind with this number, or the newest.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn study(&self, kind: StudyKind, id: Option<i64>) -> Result<Option<Study>, StoreError> {
        let sql = format!(
            "select {COLUMNS} from studies where kind = $1 and ($2 is null or id = $2) order by id desc limit 1"
        );
        let found = self.connection().query_row(&sql, params![kind.as_str(), id], |row| Ok(read(row)));
        found.optional()?.transpose()
    }
}

fn read(row: &Row<'_>) -> Result<Study, StoreError> {
    let kind: String = row.get(1)?;
    let rest: StudyRest = serde_json::from_str(row.get_ref(3)?.as_str().map_err(rusqlite::Error::from)?)?;
    Ok(Study {
        id: row.get(0)?,
        kind: if kind == StudyKind::Load.as_str() { StudyKind::Load } else { StudyKind::Turns },
        made_at: row.get(2)?,
        machine: rest.machine,
        fonex_version: rest.fonex_version,
        figures: rest.figures,
    })
}
