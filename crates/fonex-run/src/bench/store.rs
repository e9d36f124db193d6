//! Which store a command works on: one that was named, one that the bench file names, or the one beside it.

use std::path::{Path, PathBuf};

use fonex_engines::Secrets;
use fonex_formats::{Place, Problem, regular};
use fonex_store::{Store, StoreError, StorePlace};
use toml::Table;

use super::folder_of;
use crate::RunError;

/// The variable that names a store.
const VARIABLE: &str = "FONEX_STORE";

/// What a command was told of its store.
#[derive(Debug, Clone)]
pub struct StoreChoice {
    /// The bench file, which need not be there to read a store.
    pub bench: PathBuf,
    /// A folder, or the address of a server.
    pub named: Option<String>,
}

impl StoreChoice {
    /// The store that a bench file has where nothing else is said.
    #[must_use]
    pub fn beside(bench: &Path) -> Self {
        Self { bench: bench.to_owned(), named: None }
    }

    /// Where the store is: named by option, by `FONEX_STORE` (also in `.env`), by `store` in the bench file, or `.fonex` beside it.
    ///
    /// # Errors
    /// When what names it cannot be read, or holds a password where others read it.
    pub fn place(&self) -> Result<StorePlace, RunError> {
        let folder = folder_of(&self.bench);
        let own = folder.join(".fonex");
        let secrets = Secrets::read(folder)?;
        let password = secrets.value("PGPASSWORD");
        let parsed = |text: &str, place: Place| {
            StorePlace::parse(text, &own, password.as_deref())
                .map_err(|error| Problem { place, ..crate::store_problem(&error) })
        };
        if let Some(named) = &self.named {
            return Ok(match parsed(named, Place::default().field("--store"))? {
                // The folder of a bench file is as good as the store in it.
                StorePlace::Folder(path) if path.join(".fonex/runs.db").is_file() => {
                    StorePlace::Folder(path.join(".fonex"))
                }
                place => place,
            });
        }
        if let Some(named) = secrets.value(VARIABLE) {
            return Ok(parsed(&named, Place::default().field(VARIABLE))?);
        }
        let Some(named) = self.in_file() else { return Ok(StorePlace::Folder(own)) };
        let place = Place::file(&self.bench).field("store");
        if StorePlace::has_password(&named) {
            let problem =
                Problem::new("the address of the store holds a password, which everybody reads here", place);
            let remedy = format!(
                "leave it out, and set PGPASSWORD, or {VARIABLE} to the whole address, in the environment or in .env"
            );
            return Err(problem.remedy(remedy).into());
        }
        Ok(parsed(&named, place)?.seen_from(folder))
    }

    /// What the bench file says, where it can be read: a store is looked into also beside a file with mistakes.
    fn in_file(&self) -> Option<String> {
        let text = regular::read_text(&self.bench).ok().filter(|text| text.contains("store"))?;
        Some(text.parse::<Table>().ok()?.get("store")?.as_str()?.to_owned())
    }

    /// Opens the store to write to it, making it if need be.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(&self) -> Result<Store, RunError> {
        Ok(Store::open_at(&self.place()?)?)
    }

    /// Opens the store to read from it; one that is not there is a mistake.
    ///
    /// # Errors
    /// When it is not there, or cannot be opened.
    pub fn existing(&self) -> Result<Store, RunError> {
        let place = self.there()?;
        Store::open_to_read(&place).map_err(|error| no_runs(error, &place))
    }

    /// Opens the store to change what is in it; one that is not there is a mistake.
    ///
    /// # Errors
    /// As [`Self::existing`].
    pub fn to_change(&self) -> Result<Store, RunError> {
        let place = self.there()?;
        Store::open_existing(&place).map_err(|error| no_runs(error, &place))
    }

    /// Whether something was stored. Of a server that is seen only when it is asked.
    #[must_use]
    pub fn is_there(&self) -> bool {
        self.there().is_ok()
    }

    fn there(&self) -> Result<StorePlace, RunError> {
        match self.place()? {
            StorePlace::Folder(folder) if !folder.join("runs.db").is_file() => {
                let problem = Problem::new("there are no runs in this folder yet", Place::file(&folder));
                Err(problem.remedy("run a plan first (fonex run), or name the bench file with --bench").into())
            }
            place => Ok(place),
        }
    }
}

fn no_runs(error: StoreError, place: &StorePlace) -> RunError {
    match error {
        StoreError::Empty => {
            let problem = Problem::new(format!("there are no runs in {place} yet"), Place::default());
            problem.remedy("run a plan first (fonex run), or copy a store there (fonex store copy)").into()
        }
        error => error.into(),
    }
}
