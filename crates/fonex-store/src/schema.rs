//! The schema and how it grew. A step is never changed once released; a new one is added behind it.

use rusqlite::Connection;

use crate::StoreError;
#[cfg(feature = "postgres")]
use crate::database::{Database, Server, values};

/// One step a version: step `n` turns version `n` into `n + 1`.
const STEPS: [&str; 10] = [
    r"
    create table runs (
        id integer primary key,
        label text,
        plan text not null,
        state text not null,
        started_at text not null,
        finished_at text,
        fingerprint text not null,
        corpus_checksum text not null,
        record text not null
    );
    create table clips (
        corpus_checksum text not null,
        ordinal bigint not null,
        clip_id text not null,
        record text not null,
        primary key (corpus_checksum, ordinal)
    );
    create table trials (
        run_id bigint not null references runs (id) on delete cascade,
        variant bigint not null,
        clip_id text not null,
        repeat bigint not null,
        warm_up bigint not null,
        outcome text not null,
        detail text,
        started_ms double precision not null,
        took_ms double precision,
        audio_s double precision,
        cpu_s double precision,
        peak_memory_kib bigint,
        heard text,
        audio_file text,
        measures text,
        primary key (run_id, variant, warm_up, repeat, clip_id)
    );
",
    "alter table trials add column prepared text;",
    "alter table trials add column first_ms double precision;
     alter table trials add column replied text;
     alter table trials add column traffic text;
     alter table trials add column used text;",
    "create table studies (
        id integer primary key,
        kind text not null,
        record text not null
    );",
    "create table facts (
        run_id bigint not null references runs (id) on delete cascade,
        profile text not null,
        version bigint not null,
        trials bigint not null,
        variant bigint not null,
        fact text not null,
        record blob not null,
        primary key (run_id, profile, variant, fact)
    );
    create table sheets (
        corpus_checksum text not null primary key,
        version bigint not null,
        record blob not null
    );",
    // A variant's delivery was the text that tables print, such as "pieces=5s-1s"; it is the delivery itself.
    r#"update runs set record = json_set(record, '$.variants', json((
        select json_group_array(json(case
            when delivery like 'pieces=%-%' then json_set(variant, '$.delivery', json_object('pieces', json_object(
                'window_s', cast(substr(delivery, 8) as real),
                'overlap_s', cast(substr(delivery, instr(delivery, '-') + 1) as real))))
            when delivery like 'pieces=%' then json_set(variant, '$.delivery', json_object('pieces', json_object(
                'window_s', cast(substr(delivery, 8) as real))))
            when delivery like 'pauses=%' then json_set(variant, '$.delivery', json_object('pauses', json_object(
                'pause_s', cast(substr(delivery, 8) as real))))
            when delivery like 'live=%' then json_set(variant, '$.delivery', json_object('live', json_object(
                'speed', cast(substr(delivery, 6) as real))))
            when delivery = 'live' then json_set(variant, '$.delivery', json_object('live', json_object()))
            else variant
        end))
        from (select value as variant, json_extract(value, '$.delivery') as delivery
              from json_each(runs.record, '$.variants') order by key)
    ))) where record like '%"delivery":"%';"#,
    "alter table trials add column speech text;",
    // Labels are found by the ids of their clips. What a list of runs says of one is put down when it is finished.
    "create index clips_by_id on clips (corpus_checksum, clip_id);
     alter table runs add column listed text;
     update runs set listed = json_object(
        'planned', json_extract(record, '$.planned'),
        'variants', json((select json_group_array(name) from (
            select json_extract(value, '$.name') as name from json_each(runs.record, '$.variants') order by key
        ))),
        'outcomes', json((select json_group_array(json_array(outcome, trials)) from (
            select outcome, count(*) as trials from trials where run_id = runs.id and warm_up = 0 group by outcome
        )))
     ) where state = 'finished';",
    "alter table trials add column made_by text;",
    RETRIED,
];

/// Trials that failed and were made again; `attempt` counts from 1.
const RETRIED: &str = "create table retried (
    run_id bigint not null references runs (id) on delete cascade,
    variant bigint not null,
    clip_id text not null,
    repeat bigint not null,
    attempt bigint not null,
    record text not null,
    primary key (run_id, variant, clip_id, repeat, attempt)
);";

/// The version this program writes.
pub(crate) const VERSION: u32 = STEPS.len() as u32;

/// Brings a store up to date, each step in a transaction; refuses one that a newer program wrote.
pub(crate) fn migrate(connection: &mut Connection) -> Result<(), StoreError> {
    // A store that is up to date may lie where nothing can be written.
    if connection.query_row("pragma user_version", [], |row| row.get(0)) == Ok(VERSION) {
        return Ok(());
    }
    // Another process may be migrating: the version is read under the write lock.
    let transaction = connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    let found: u32 = transaction.query_row("pragma user_version", [], |row| row.get(0))?;
    if found > VERSION {
        return Err(StoreError::Newer { found, known: VERSION });
    }
    for step in &STEPS[found as usize..] {
        transaction.execute_batch(step)?;
    }
    transaction.pragma_update(None, "user_version", VERSION)?;
    transaction.commit()?;
    Ok(())
}

/// The tables on a server, at the version with which servers began. A step that is added to [`STEPS`] gets its twin in [`SERVER_STEPS`].
#[cfg(feature = "postgres")]
const SERVER: (u32, &str) = (8, include_str!("schema/server.sql"));

/// One step a version behind that of [`SERVER`].
#[cfg(feature = "postgres")]
const SERVER_STEPS: [&str; STEPS.len() - 8] = ["alter table trials add column made_by text;", RETRIED];

/// Brings the store on a server up to date, all steps in one transaction; refuses one that a newer program wrote. Where nothing is to be
/// done nothing is written, so that a user who may only look can open it.
#[cfg(feature = "postgres")]
pub(crate) fn migrate_server(database: &Database, server: &Server, make: bool) -> Result<(), StoreError> {
    let found = server_version(database)?;
    if found == VERSION {
        return Ok(());
    }
    if found > VERSION {
        return Err(StoreError::Newer { found, known: VERSION });
    }
    if found == 0 && !make {
        return Err(StoreError::Empty);
    }
    let transaction = database.begin()?;
    let migrated = (|| {
        // Another process may be migrating: who comes second finds it done.
        database
            .each("select pg_advisory_xact_lock(hashtext('fonex'), hashtext(current_schema()))", &[], |_| Ok(()))?;
        let found = server_version(database)?;
        if found > 0 && found < SERVER.0 {
            return Err(StoreError::NoRow);
        }
        if found == 0 {
            server.batch(SERVER.1)?;
        }
        for step in SERVER_STEPS.iter().skip(found.saturating_sub(SERVER.0) as usize) {
            server.batch(step)?;
        }
        if found < VERSION {
            database.execute("update fonex_store set version = $1", values![VERSION])?;
        }
        Ok(())
    })();
    match migrated {
        Ok(()) => transaction.commit(),
        Err(StoreError::NotAllowed { .. }) if found > 0 => Err(StoreError::Older { found, known: VERSION }),
        Err(error) => Err(error),
    }
}

/// The version of the store on a server, 0 where there is none.
#[cfg(feature = "postgres")]
fn server_version(database: &Database) -> Result<u32, StoreError> {
    let there = database.only(
        "select count(*) from pg_tables where schemaname = current_schema() and tablename = 'fonex_store'",
        &[],
        |row| row.get::<u64>(0),
    )?;
    if there == 0 {
        return Ok(0);
    }
    database.only("select version from fonex_store", &[], |row| row.get(0))
}
