//! What the service answers to which request.

use std::io;
use std::sync::atomic::Ordering;
use std::time::Instant;

use fonex_core::stats::stream;
use rand::RngExt;
use serde_json::{Value, json};

use super::Shared;
use super::fault::Fault;
use super::giving::{give, wav};
use super::jobs::Job;
use super::making::{Made, make};
use super::wire::{Connection, Request};
use crate::Behaviours;

pub(super) const JSON: &str = "application/json";

/// Answers one request; false when the connection is to be closed.
pub(super) async fn answer(
    connection: &mut Connection,
    request: &Request,
    shared: &Shared,
    read_at: Instant,
) -> io::Result<bool> {
    let refuse = |status: u16, what: &str| (status, json!({"error": {"message": what}}).to_string());
    if !allowed(request, shared) {
        let (status, body) = refuse(401, "the key is unknown");
        connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
        return Ok(true);
    }
    let count = shared.served.load(Ordering::Relaxed);
    let fault = match request.query("fault").filter(|name| !name.is_empty() && *name != "none") {
        Some(name) => match name.parse::<Fault>() {
            Ok(fault) => Some(fault),
            Err(what) => {
                let (status, body) = refuse(400, &what);
                connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
                return Ok(true);
            }
        },
        None => chance_fault(shared, count),
    };
    let over = shared.config.quota.is_some_and(|quota| count > quota);
    let fault = if over && request.method == "POST" { Some(Fault::Quota) } else { fault };
    if let Some((status, words)) = fault.and_then(Fault::status) {
        let mut headers = vec![("content-type", JSON.to_owned())];
        if fault == Some(Fault::TooMany) {
            headers.push(("retry-after", request.query("retry_after").unwrap_or("1").to_owned()));
        }
        let (_, body) = refuse(status, words);
        connection.reply(status, &headers, body.as_bytes()).await?;
        return Ok(true);
    }
    match (request.method.as_str(), request.path.as_str()) {
        ("GET", "/voices") => {
            connection.reply(200, &[("content-type", JSON.into())], voices(shared).to_string().as_bytes()).await?;
            Ok(true)
        }
        ("POST" | "GET", "/hear" | "/speak" | "/reply" | "/jobs")
            if request.method == "POST" || request.path == "/reply" =>
        {
            match make(request, shared) {
                Ok(made) if request.path == "/jobs" => submit(connection, request, shared, made, read_at).await,
                Ok(made) => give(connection, request, shared, made, fault, read_at).await,
                Err((status, what)) => {
                    let (status, body) = refuse(status, &what);
                    connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
                    Ok(true)
                }
            }
        }
        (method, path) if path.starts_with("/jobs/") || path.starts_with("/audio/") => {
            kept(connection, method, path, shared).await
        }
        _ => {
            let (status, body) = refuse(404, "hear, speak, reply, jobs, voices and live are served here");
            connection.reply(status, &[("content-type", JSON.into())], body.as_bytes()).await?;
            Ok(true)
        }
    }
}

pub(super) fn allowed(request: &Request, shared: &Shared) -> bool {
    let keys = &shared.config.keys;
    let given = request.header("authorization").and_then(|value| value.strip_prefix("Bearer "));
    keys.is_empty() || given.or(request.query("key")).is_some_and(|given| keys.iter().any(|key| key == given))
}

fn chance_fault(shared: &Shared, count: u64) -> Option<Fault> {
    let share = shared.config.fault_share;
    if share <= 0.0 {
        return None;
    }
    let mut random = stream(shared.config.seed, &["fault", &count.to_string()]);
    // Those that would only make a run wait are left to be asked for.
    let menu: Vec<Fault> = Fault::ALL
        .into_iter()
        .filter(|f| !matches!(f, Fault::SlowFirstByte | Fault::Stalled | Fault::Quota))
        .collect();
    (random.random::<f64>() < share).then(|| menu[random.random_range(0..menu.len())])
}

fn voices(shared: &Shared) -> Value {
    let voices = shared.config.engines.iter().filter_map(|(name, behaviours)| match behaviours {
        Behaviours::Speak(profiles) => Some((name, profiles)),
        _ => None,
    });
    let voices = voices.flat_map(|(name, profiles)| {
        profiles.iter().map(move |(voice, profile)| {
            let gender = if profile.pitch_hz > 160.0 { "female" } else { "male" };
            json!({"id": voice, "engine": name, "languages": ["en"], "gender": gender, "kind": "stand-in", "price": 0.000_016})
        })
    });
    json!({"voices": voices.collect::<Vec<_>>()})
}

async fn submit(
    connection: &mut Connection,
    request: &Request,
    shared: &Shared,
    made: Made,
    read_at: Instant,
) -> io::Result<bool> {
    let (media_type, body) = match &made.sound {
        Some(sound) => ("audio/wav", wav(sound)),
        None => (JSON, made.json.to_string().into_bytes()),
    };
    let failed = request.query("state") == Some("failed");
    let job = Job { done_at: read_at + made.takes, media_type: if failed { "failed" } else { media_type }, body };
    let id = shared.jobs.lock().expect("no holder of this lock panics").keep(job);
    let body = json!({"job": {"id": id, "link": format!("/jobs/{id}")}, "state": "queued"}).to_string();
    connection.reply(202, &[("content-type", JSON.into())], body.as_bytes()).await?;
    Ok(true)
}

/// Jobs and sounds that are kept: `/jobs/ID`, `/jobs/ID/result`, `/audio/ID`.
async fn kept(connection: &mut Connection, method: &str, path: &str, shared: &Shared) -> io::Result<bool> {
    let mut segments = path.split('/').skip(2);
    let (id, result) = (segments.next().unwrap_or_default(), segments.next() == Some("result"));
    let (status, media_type, body) = {
        let mut jobs = shared.jobs.lock().expect("no holder of this lock panics");
        if method == "DELETE" {
            (if jobs.delete(id) { 204 } else { 404 }, JSON, Vec::new())
        } else {
            match jobs.get(id) {
                None => (404, JSON, br#"{"error":{"message":"there is no such job"}}"#.to_vec()),
                Some(job) if result || path.starts_with("/audio/") => (200, job.media_type, job.body.clone()),
                Some(job) => {
                    let state = match (job.done_at > Instant::now(), job.media_type) {
                        (true, _) => "running",
                        (false, "failed") => "failed",
                        (false, _) => "done",
                    };
                    (200, JSON, json!({"state": state}).to_string().into_bytes())
                }
            }
        }
    };
    connection.reply(status, &[("content-type", media_type.into())], &body).await?;
    Ok(true)
}
