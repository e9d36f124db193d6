//! The places a test of the store runs at: always a folder; also a server where `FONEX_TEST_POSTGRES` names one.

use std::path::Path;

use fonex_store::{Store, StorePlace};

/// A place of its own for a store, which is gone afterwards.
pub struct Place {
    folder: tempfile::TempDir,
    #[cfg(feature = "postgres")]
    server: Option<Schema>,
}

/// A schema of a server.
#[cfg(feature = "postgres")]
struct Schema {
    address: String,
    name: String,
}

#[cfg(feature = "postgres")]
impl Schema {
    fn new(server: &str, folder: &Path) -> Self {
        let name: String = format!("t{}{}", std::process::id(), folder.display())
            .chars()
            .filter(char::is_ascii_alphanumeric)
            .collect::<String>()
            .to_lowercase();
        let schema =
            Self { address: format!("{server}?options=-csearch_path%3D{name}&application_name={name}"), name };
        schema.client().batch_execute(&format!("create schema {}", schema.name)).unwrap();
        schema
    }

    fn client(&self) -> postgres::Client {
        postgres::Client::connect(&self.address, postgres::NoTls).unwrap()
    }
}

#[cfg(feature = "postgres")]
impl Drop for Schema {
    fn drop(&mut self) {
        drop(self.client().batch_execute(&format!("drop schema {} cascade", self.name)));
    }
}

impl Place {
    pub fn folder() -> Self {
        Self {
            folder: tempfile::tempdir().unwrap(),
            #[cfg(feature = "postgres")]
            server: None,
        }
    }

    #[cfg(feature = "postgres")]
    fn server(address: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let server = Some(Schema::new(address, folder.path()));
        Self { folder, server }
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn place(&self) -> StorePlace {
        #[cfg(feature = "postgres")]
        if let Some(schema) = &self.server {
            return StorePlace::parse(&schema.address, self.path(), None).unwrap();
        }
        StorePlace::Folder(self.path().to_owned())
    }

    pub fn open(&self) -> Store {
        Store::open_at(&self.place()).unwrap()
    }

    /// A query that gives one number, asked of the database itself.
    pub fn number(&self, sql: &str) -> i64 {
        #[cfg(feature = "postgres")]
        if let Some(schema) = &self.server {
            return schema.client().query_one(sql, &[]).unwrap().get(0);
        }
        let database = rusqlite::Connection::open(self.path().join("runs.db")).unwrap();
        database.query_row(sql, [], |row| row.get(0)).unwrap()
    }

    /// Ends every connection of the store but that which asks, as a server does that is stopped.
    #[cfg(feature = "postgres")]
    pub fn end_connections(&self) {
        if let Some(schema) = &self.server {
            let name = &schema.name;
            self.change(&format!(
                "select pg_terminate_backend(pid) from pg_stat_activity where application_name = '{name}' and pid <> pg_backend_pid()"
            ));
        }
    }

    /// Changes the database behind the store's back.
    pub fn change(&self, sql: &str) {
        #[cfg(feature = "postgres")]
        if let Some(schema) = &self.server {
            return schema.client().batch_execute(sql).unwrap();
        }
        rusqlite::Connection::open(self.path().join("runs.db")).unwrap().execute_batch(sql).unwrap();
    }
}

/// Every kind of place there is here.
pub fn places() -> Vec<Place> {
    let places = vec![Place::folder()];
    #[cfg(feature = "postgres")]
    let places = {
        let mut places = places;
        places.extend(std::env::var("FONEX_TEST_POSTGRES").ok().map(|address| Place::server(&address)));
        places
    };
    places
}
