//! A team's database: PostgreSQL. A connection that breaks is opened again, and what was asked outside a transaction is asked again.

use std::borrow::Cow;
use std::collections::HashMap;
use std::error::Error;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use bytes::BytesMut;
use postgres::config::SslMode;
use postgres::types::{FromSql, IsNull, ToSql, Type};
use postgres::{Client, NoTls, Row, Statement};

use super::tls::Tls;
use super::{ServerAddress, Value};
use crate::StoreError;

/// The oldest server whose SQL is spoken.
const OLDEST: i64 = 120_000;
/// How long a server that is away is waited for: it may be starting anew.
const PATIENCE: Duration = Duration::from_secs(60);
/// Between two attempts to reach it.
const PAUSE: Duration = Duration::from_millis(500);

/// A server, and the one connection to it.
pub(crate) struct Server {
    address: ServerAddress,
    /// What the locks of this store are told from those of others by.
    class: i32,
    link: Mutex<Link>,
}

struct Link {
    client: Client,
    statements: HashMap<String, Statement>,
    in_transaction: bool,
    /// Locks that this connection holds.
    held: Vec<i64>,
}

/// Whether a statement may be executed twice, where the connection broke and nobody knows whether it was executed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Repeat {
    /// The second time changes nothing.
    Safe,
    /// It would make a second row.
    Never,
}

impl Server {
    /// Connects.
    pub(crate) fn connect(address: ServerAddress) -> Result<Self, StoreError> {
        let client = open(&address)?;
        let link = Link { client, statements: HashMap::new(), in_transaction: false, held: Vec::new() };
        let mut server = Self { address, class: 0, link: Mutex::new(link) };
        let first = "select cast(current_setting('server_version_num') as bigint),
                     hashtext('fonex ' || coalesce(current_schema(), ''))";
        let rows = server.query(first, &[], Repeat::Safe)?;
        let [row] = rows.as_slice() else { return Err(StoreError::NoRow) };
        let version = whole(row, 0)?;
        if version < OLDEST {
            return Err(StoreError::TooOld { found: version / 10_000, needed: OLDEST / 10_000 });
        }
        server.class = whole(row, 1)? as i32 & i32::MAX;
        Ok(server)
    }

    fn link(&self) -> MutexGuard<'_, Link> {
        self.link.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn execute(&self, sql: &str, values: &[Value<'_>]) -> Result<u64, StoreError> {
        self.asked(Repeat::Safe, |link| {
            let statement = link.prepared(sql)?;
            link.client.execute(&statement, &parameters(values))
        })
    }

    pub(super) fn query(&self, sql: &str, values: &[Value<'_>], repeat: Repeat) -> Result<Vec<Row>, StoreError> {
        self.asked(repeat, |link| {
            let statement = link.prepared(sql)?;
            link.client.query(&statement, &parameters(values))
        })
    }

    /// Several statements without values.
    pub(crate) fn batch(&self, sql: &str) -> Result<(), StoreError> {
        self.asked(Repeat::Safe, |link| link.client.batch_execute(sql))
    }

    pub(super) fn begin(&self) -> Result<(), StoreError> {
        self.asked(Repeat::Safe, |link| link.client.batch_execute("begin"))?;
        self.link().in_transaction = true;
        Ok(())
    }

    pub(super) fn end(&self, word: &str) -> Result<(), StoreError> {
        let mut link = self.link();
        link.in_transaction = false;
        link.client.batch_execute(word).map_err(|error| self.told(&error))
    }

    /// Asks, and where the connection breaks opens another and asks again, if that is safe: what was asked may have been done.
    fn asked<T>(
        &self,
        repeat: Repeat,
        mut ask: impl FnMut(&mut Link) -> Result<T, postgres::Error>,
    ) -> Result<T, StoreError> {
        let mut link = self.link();
        let begun = Instant::now();
        loop {
            let error = match ask(&mut link) {
                Ok(answer) => return Ok(answer),
                Err(error) => error,
            };
            if !is_lost(&link.client, &error) || link.in_transaction || repeat == Repeat::Never {
                return Err(self.told(&error));
            }
            self.reopen(&mut link, begun)?;
        }
    }

    /// Opens another connection, and takes the locks that went with the old one.
    fn reopen(&self, link: &mut Link, begun: Instant) -> Result<(), StoreError> {
        loop {
            match open(&self.address) {
                Ok(client) => {
                    link.client = client;
                    break;
                }
                Err(error) if begun.elapsed() > PATIENCE => return Err(error),
                Err(StoreError::Unreachable { .. }) => thread::sleep(PAUSE),
                Err(error) => return Err(error),
            }
        }
        link.statements.clear();
        for number in &link.held {
            // The server may take a while to see that the old connection is gone.
            while !try_lock(&mut link.client, self.class, *number).map_err(|error| self.told(&error))? {
                if begun.elapsed() > PATIENCE {
                    return Err(StoreError::Busy(*number));
                }
                thread::sleep(PAUSE);
            }
        }
        Ok(())
    }

    /// What the server or the library says, told as ours.
    fn told(&self, error: &postgres::Error) -> StoreError {
        told(&self.address, error)
    }

    /// Takes a lock that ends with this connection; false where somebody else has it.
    pub(crate) fn lock(&self, number: i64) -> Result<bool, StoreError> {
        let taken = self.asked(Repeat::Safe, |link| try_lock(&mut link.client, self.class, number))?;
        if taken {
            self.link().held.push(number);
        }
        Ok(taken)
    }

    /// Waits for a lock.
    pub(crate) fn wait_for(&self, number: i64) -> Result<(), StoreError> {
        let of = [Value::from(i64::from(self.class)), Value::Integer(number)];
        self.query("select pg_advisory_lock($1, $2)", &of, Repeat::Safe)?;
        self.link().held.push(number);
        Ok(())
    }

    /// Lets a lock go.
    pub(crate) fn unlock(&self, number: i64) {
        let mut link = self.link();
        if let Some(place) = link.held.iter().position(|held| *held == number) {
            link.held.swap_remove(place);
        }
        let (class, number) = (self.class, number as i32);
        // A connection that is lost holds nothing.
        drop(link.client.execute("select pg_advisory_unlock($1, $2)", &[&class, &number]));
    }

    /// Whether anybody holds a lock.
    pub(crate) fn is_locked(&self, number: i64) -> Result<bool, StoreError> {
        let sql = "select count(*) from pg_locks where locktype = 'advisory' and granted and objsubid = 2
             and cast(classid as bigint) = $1 and cast(objid as bigint) = $2
             and database = (select oid from pg_database where datname = current_database())";
        let of = [Value::from(i64::from(self.class)), Value::Integer(number)];
        let found = self.query(sql, &of, Repeat::Safe)?;
        Ok(found.first().map(|row| whole(row, 0)).transpose()?.unwrap_or_default() > 0)
    }
}

impl Link {
    fn prepared(&mut self, sql: &str) -> Result<Statement, postgres::Error> {
        if let Some(statement) = self.statements.get(sql) {
            return Ok(statement.clone());
        }
        let statement = self.client.prepare(sql)?;
        self.statements.insert(sql.to_owned(), statement.clone());
        Ok(statement)
    }
}

fn open(address: &ServerAddress) -> Result<Client, StoreError> {
    let client = if address.config().get_ssl_mode() == SslMode::Disable {
        address.config().connect(NoTls)
    } else {
        let unusable = |why| StoreError::Unreachable { server: address.to_string(), why };
        let tls = Tls::new(address.authorities.as_deref()).map_err(unusable)?;
        address.config().connect(tls)
    };
    client.map_err(|error| told(address, &error))
}

fn try_lock(client: &mut Client, class: i32, number: i64) -> Result<bool, postgres::Error> {
    let number = number as i32;
    Ok(client.query_one("select pg_try_advisory_lock($1, $2)", &[&class, &number])?.get(0))
}

/// Whether the connection is gone, as when the server ends or starts anew.
fn is_lost(client: &Client, error: &postgres::Error) -> bool {
    // 57P01 to 57P03: the server ends, has crashed, or is not ready yet.
    client.is_closed() || error.is_closed() || error.code().is_some_and(|code| code.code().starts_with("57P"))
}

fn told(address: &ServerAddress, error: &postgres::Error) -> StoreError {
    let Some(said) = error.as_db_error() else {
        let mut why = error.to_string();
        let mut source = error.source();
        while let Some(inner) = source {
            if !why.contains(&inner.to_string()) {
                why = format!("{why}: {inner}");
            }
            source = inner.source();
        }
        return StoreError::Unreachable { server: address.to_string(), why };
    };
    let text = said.message().to_owned();
    let server = address.to_string();
    match said.code().code() {
        // Connection refused by the server's rules, a wrong name or password, no such database.
        "28000" | "28P01" | "3D000" => StoreError::Refused { server, why: text },
        "42501" | "25006" => StoreError::NotAllowed { server, why: text },
        "53100" => StoreError::ServerFull { server, why: text },
        code if code.starts_with("57P") || code.starts_with("53") || code.starts_with("08") => {
            StoreError::Unreachable { server, why: text }
        }
        _ => StoreError::Server { server, why: text },
    }
}

fn parameters<'v>(values: &'v [Value<'_>]) -> Vec<&'v (dyn ToSql + Sync)> {
    values.iter().map(|value| value as &(dyn ToSql + Sync)).collect()
}

/// PostgreSQL's text holds no zero character, and ours may: an engine can answer anything. It is written as this character and a 0; the
/// character itself, which stands in no script, as itself and a 1.
const ESCAPE: char = '\u{f8fe}';

fn escaped(text: &str) -> Cow<'_, str> {
    if !text.contains(['\0', ESCAPE]) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.replace(ESCAPE, "\u{f8fe}1").replace('\0', "\u{f8fe}0"))
}

fn unescaped(text: &str) -> Cow<'_, str> {
    if !text.contains(ESCAPE) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.replace("\u{f8fe}0", "\0").replace("\u{f8fe}1", "\u{f8fe}"))
}

impl ToSql for Value<'_> {
    fn to_sql(&self, kind: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn Error + Sync + Send>> {
        match self {
            Value::Null => Ok(IsNull::Yes),
            Value::Integer(number) if *kind == Type::INT4 => i32::try_from(*number)?.to_sql(kind, out),
            Value::Integer(number) if *kind == Type::FLOAT8 => (*number as f64).to_sql(kind, out),
            Value::Integer(number) => number.to_sql(kind, out),
            Value::Real(number) => number.to_sql(kind, out),
            Value::Text(text) => escaped(text).as_ref().to_sql(kind, out),
            Value::Bytes(bytes) => bytes.as_ref().to_sql(kind, out),
        }
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    postgres::types::to_sql_checked!();
}

/// A column as the server sent it.
struct Sent<'r>(Value<'r>);

impl<'r> FromSql<'r> for Sent<'r> {
    fn from_sql(kind: &Type, raw: &'r [u8]) -> Result<Self, Box<dyn Error + Sync + Send>> {
        Ok(Self(match *kind {
            Type::INT2 => Value::Integer(i16::from_sql(kind, raw)?.into()),
            Type::INT4 => Value::Integer(i32::from_sql(kind, raw)?.into()),
            Type::INT8 => Value::Integer(i64::from_sql(kind, raw)?),
            Type::FLOAT4 => Value::Real(f32::from_sql(kind, raw)?.into()),
            Type::FLOAT8 => Value::Real(f64::from_sql(kind, raw)?),
            Type::BYTEA => Value::Bytes(Cow::Borrowed(raw)),
            _ => Value::Text(unescaped(<&str>::from_sql(kind, raw)?)),
        }))
    }

    fn from_sql_null(_: &Type) -> Result<Self, Box<dyn Error + Sync + Send>> {
        Ok(Self(Value::Null))
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

pub(super) fn value(row: &Row, column: usize) -> Result<Value<'_>, StoreError> {
    row.try_get::<_, Sent<'_>>(column)
        .map(|sent| sent.0)
        .map_err(|_| StoreError::Cell { column, expected: "readable" })
}

fn whole(row: &Row, column: usize) -> Result<i64, StoreError> {
    match value(row, column)? {
        Value::Integer(number) => Ok(number),
        _ => Err(StoreError::Cell { column, expected: "a whole number" }),
    }
}

#[cfg(test)]
mod tests {
    use super::{escaped, unescaped};

    #[test]
    fn every_text_comes_back_as_it_was_and_none_holds_a_zero() {
        for text in ["", "plain", "a\0b", "\u{f8fe}", "\u{f8fe}0", "\0\u{f8fe}1\0", "\u{f8fe}\u{f8fe}0"] {
            assert!(!escaped(text).contains('\0'));
            assert_eq!(unescaped(&escaped(text)), text);
        }
    }
}
