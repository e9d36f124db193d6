//! What came back, for a terminal.

use fonex_core::Heard;
use fonex_core::audio::AudioMeasures;
use fonex_core::latency::Traffic;
use fonex_core::measures::Unit;
use fonex_core::text::TextProfile;

use super::{Tried, live, scored};
use crate::output::{self, Cell, milliseconds, plural, seconds, thread_key, thread_lines};

pub(super) fn page(tried: &Tried, profile: &TextProfile) -> String {
    let name: Vec<&str> = [&tried.engine, &tried.model, &tried.voice]
        .into_iter()
        .map(String::as_str)
        .filter(|p| !p.is_empty())
        .collect();
    let mut text = format!("{}: {}", name.join("/"), tried.outcome);
    if let Some(ms) = tried.took_ms {
        text += &format!(" in {}", milliseconds(ms));
    }
    if let (Some(audio_s), Some(rtf)) = (tried.audio_s, tried.rtf) {
        text += &format!(" for {} of audio, RTF {rtf:.3}", seconds(audio_s));
    }
    if let (Some(cpu_s), Some(kib)) = (tried.cpu_s, tried.peak_memory_kib) {
        text += &format!(", {cpu_s:.2} s of processor, {:.0} MiB", kib as f64 / 1024.0);
    }
    if let Some(ms) = tried.first_ms {
        text += &format!(", the first of it after {}", milliseconds(ms));
    }
    text.push('\n');
    text += &phases(&tried.traffic);
    if let Some(detail) = &tried.detail {
        text += &format!("  {detail}\n");
    }
    if let (Some(log), Some(clip)) = (&tried.traffic.live, &tried.clip) {
        let heard = tried.heard.as_ref().map_or("", |heard| heard.text.as_str());
        text += &live::summary(profile, clip, heard, log);
    }
    if let Some(replied) = &tried.replied {
        text += &format!("\n{replied}\n");
    }
    if let Some(heard) = &tried.heard {
        text += &format!("\n{}\n", if heard.text.is_empty() { "(no words)" } else { &heard.text });
        let said = [
            heard.lang.as_ref().map(|language| format!("language {language}")),
            heard.confidence.map(|confidence| format!("confidence {confidence:.2}")),
        ];
        let said: Vec<String> = said.into_iter().flatten().collect();
        if !said.is_empty() {
            text += &format!("  the engine says: {}\n", said.join(", "));
        }
        if let Some(label) = &tried.label {
            let score = scored(profile, label, heard);
            let wrong = plural(score.words.reference(), "word");
            text += &format!(
                "\nagainst the label: {} in {wrong}\n{}\n",
                plural(score.words.errors(), "error"),
                thread_key()
            );
            for line in thread_lines(&score.steps, output::width(), output::colour()) {
                text += &format!("{line}\n");
            }
        }
        text += &word_times(heard);
    }
    if let Some(measures) = &tried.measures {
        text += &spoken(measures);
        text += &tried.speech.as_ref().map_or_else(String::new, output::speech_lines);
        text += &tried.picture;
    }
    for heard in &tried.heard_by {
        let said = heard.text.as_deref().or(heard.detail.as_deref()).unwrap_or("(no words)");
        let wrong = heard.words.map_or_else(
            || heard.outcome.to_string(),
            |words| format!("{} in {}", plural(words.errors(), "error"), plural(words.reference(), "word")),
        );
        text += &format!("  heard by {}: {wrong}: {said}\n", heard.by);
    }
    if let Some(path) = &tried.written {
        text += &format!("Wrote {}.\n", path.display());
    }
    text
}

/// Where the time of each request went.
fn phases(traffic: &Traffic) -> String {
    let mut text = String::new();
    if let Some(ms) = traffic.start_up_ms {
        text += &format!("  ready {} after its start, not counted\n", milliseconds(ms));
    }
    if traffic.requests.is_empty() {
        return text;
    }
    let mut table = output::Table::new([
        ("request", 0),
        ("status", 0),
        ("look-up", 3),
        ("connect", 2),
        ("TLS", 3),
        ("sent", 2),
        ("first byte", 1),
        ("last byte", 1),
        ("service", 2),
        ("outcome", 0),
    ]);
    for request in &traffic.requests {
        let ms = |value: Option<f64>| Cell::figure(Unit::Ms, value);
        let purpose = match request.attempt {
            1 => request.purpose.clone(),
            attempt => format!("{} (attempt {attempt})", request.purpose),
        };
        let connect = if request.reused == Some(true) { Cell::text("kept") } else { ms(request.connect_ms) };
        table.row([
            Cell::text(purpose),
            request.status.map_or(Cell::Empty, |status| Cell::Count(u64::from(status))),
            ms(request.lookup_ms),
            connect,
            ms(request.tls_ms),
            ms(request.sent_ms),
            ms(request.first_byte_ms),
            ms(request.last_byte_ms),
            ms(request.service_ms()),
            Cell::text(request.outcome.as_str()),
        ]);
    }
    text + &output::text(&table)
}

/// Times and confidences, where the engine gives any.
fn word_times(heard: &Heard) -> String {
    if heard.words.iter().all(|word| word.start.is_none() && word.confidence.is_none()) {
        return String::new();
    }
    let mut table = output::Table::new([("start", 0), ("end", 0), ("confidence", 0), ("word", 0)]);
    for word in &heard.words {
        table.row([
            Cell::number(word.start, 3),
            Cell::number(word.end, 3),
            Cell::number(word.confidence, 2),
            Cell::text(word.text.as_str()),
        ]);
    }
    format!("\n{}", output::text(&table))
}

fn spoken(measures: &AudioMeasures) -> String {
    let level = |db: Option<f64>| db.map_or_else(|| "silent".to_owned(), |db| format!("{db:.1} dBFS"));
    format!(
        "  peak {}, level {}, clipped {:.2} % of samples, silence {:.2} s before and {:.2} s after\n",
        level(measures.peak_dbfs),
        level(measures.level_dbfs),
        measures.clipped_share * 100.0,
        measures.silence.leading_s,
        measures.silence.trailing_s
    )
}
