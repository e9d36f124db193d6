//! What a panel said, as tables, sentences and a chart.

use fonex_analysis::panel::{CollectedListener, MeasureAgreement, PanelResult, VoiceRole};
use fonex_core::measures::{Unit, find};
use fonex_core::panel::{PairResult, PanelKind, odds};
use fonex_core::stats::Interval;
use fonex_report::charts::{ChartWidth, IntervalAxis, IntervalRow, IntervalSeries, RateMark, interval_svg};
use fonex_report::figures;

use crate::brief::Brief;
use crate::output::{self, Cell, Table, plural};

/// Listeners that are shown one by one; of more only those of whom something is to be said.
const MOST_LISTENERS: usize = 8;
/// Measures that are shown, those that agree best.
const MOST_MEASURES: usize = 15;

/// The voices, what tells them apart, the listeners, and the measures beside them.
pub fn panel_tables(result: &PanelResult) -> Vec<Table> {
    let all = [voices(result), pairs(result), listeners(result), measures(result), left_out(result)];
    all.into_iter().filter(|table| !table.is_empty()).collect()
}

/// The answer: which voice is liked best, and which differences are certain.
pub fn brief(result: &PanelResult, command: &str) -> Brief {
    let mut brief = Brief { heading: summary(result), tables: vec![voices(result)], ..Brief::default() };
    let (certain, open): (Vec<&PairResult>, Vec<&PairResult>) = all_pairs(result)
        .iter()
        .filter(|pair| [pair.first, pair.second].iter().all(|voice| role(result, *voice) == VoiceRole::Voice))
        .partition(|pair| pair.differ());
    let all = certain.len() + open.len();
    let named = |pair: &&PairResult| format!("{} and {}", name(result, pair.first), name(result, pair.second));
    match (certain.len(), open.as_slice()) {
        (0, []) => {}
        (_, []) => brief
            .answer
            .push(format!("Every difference between the voices is certain ({}).", plural(all as u64, "pair"))),
        (0, _) => brief.answer.push("No difference between the voices is certain.".to_owned()),
        (_, few) if few.len() <= 3 => {
            let few: Vec<String> = few.iter().map(named).collect();
            brief
                .answer
                .push(format!("Not certain is the difference between {}; the other pairs differ.", few.join(", ")));
        }
        (_, many) => brief.answer.push(format!("{} of {all} differences are not certain.", many.len())),
    }
    brief.stands_out = result.left_out.iter().map(|one| format!("{} left out: {}", one.file, one.why)).collect();
    let sure = |one: &MeasureAgreement| one.concordance.share.interval.map_or(0.0, |interval| interval.low);
    let best = result.measures.iter().max_by(|a, b| sure(a).total_cmp(&sure(b)));
    if let Some(best) = best {
        let name = find(&best.measure).map_or(best.measure.as_str(), |measure| measure.name);
        let share = figures::figure(Unit::Share, Some(best.concordance.share.value));
        brief.stands_out.push(format!(
            "{name} orders voices most like the listeners: {share} of {}",
            plural(best.concordance.pairs, "pair")
        ));
    }
    brief.more.push(format!("{command} --all"));
    brief
}

/// Every table but the voices, which the answer has.
pub fn depth(result: &PanelResult) -> String {
    panel_tables(result).iter().skip(1).map(|table| format!("\n{}", output::text(table))).collect()
}

/// What a reader of one line should know.
pub fn panel_caption(result: &PanelResult) -> String {
    summary(result)
}

fn name(result: &PanelResult, voice: u32) -> &str {
    result.voices.get(voice as usize).map_or("", |voice| voice.name.as_str())
}

/// The voices with what listeners gave them, best first: (place, value, interval, ratings, listeners, texts).
fn ranked(result: &PanelResult) -> Vec<(u32, f64, Option<Interval>, u64, u32, u32)> {
    let scores = result.scores.iter().flat_map(|scores| &scores.voices);
    let scores = scores.map(|v| (v.voice, v.mean, v.interval, v.ratings, v.listeners, v.texts));
    let strengths = result.preferences.iter().flat_map(|preferences| &preferences.voices);
    let strengths = strengths.map(|v| (v.voice, v.preferred, v.interval, v.pairs, v.listeners, v.texts));
    let mut all: Vec<_> = scores.chain(strengths).collect();
    all.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
    all
}

const fn unit(kind: PanelKind) -> Unit {
    match kind {
        PanelKind::Pairs => Unit::Share,
        PanelKind::Opinion | PanelKind::Anchored => Unit::PerClip,
    }
}

const fn what(kind: PanelKind) -> &'static str {
    match kind {
        PanelKind::Opinion => "MOS",
        PanelKind::Pairs => "preferred",
        PanelKind::Anchored => "rating",
    }
}

fn summary(result: &PanelResult) -> String {
    let careful = result.careful().len() as u64;
    let left_out = result.listeners.len() as u64 - careful;
    let mut text = format!("Panel {}, {}: {}", result.panel, result.kind.as_str(), plural(careful, "listener"));
    if left_out > 0 {
        text += &format!(", {left_out} more left out as careless");
    }
    text += &format!(", {}.", plural(u64::from(result.texts), "text"));
    let ranked = ranked(result);
    let mut rated = ranked.iter().filter(|voice| role(result, voice.0) == VoiceRole::Voice);
    if let (Some(first), Some(second)) = (rated.next(), rated.next()) {
        let told = pair(result, first.0, second.0).is_some_and(PairResult::differ);
        let (first, second) = (name(result, first.0), name(result, second.0));
        text += &if told {
            format!(" Listeners like {first} best.")
        } else {
            format!(" Listeners cannot tell which of {first} and {second} is better.")
        };
    }
    text
}

fn role(result: &PanelResult, voice: u32) -> VoiceRole {
    result.voices.get(voice as usize).map_or(VoiceRole::Voice, |voice| voice.role)
}

fn all_pairs(result: &PanelResult) -> &[PairResult] {
    match (&result.scores, &result.preferences) {
        (Some(scores), _) => &scores.pairs,
        (None, Some(preferences)) => &preferences.pairs,
        (None, None) => &[],
    }
}

fn pair(result: &PanelResult, one: u32, other: u32) -> Option<&PairResult> {
    all_pairs(result)
        .iter()
        .find(|pair| [(pair.first, pair.second), (pair.second, pair.first)].contains(&(one, other)))
}

fn voices(result: &PanelResult) -> Table {
    let rated = if result.kind == PanelKind::Pairs { "pairs" } else { "ratings" };
    let mut table = Table::new([
        ("voice", 0),
        (what(result.kind), 0),
        (rated, 2),
        ("listeners", 1),
        ("texts", 3),
        ("listeners needed", 2),
    ])
    .titled("Listeners' verdict");
    for (voice, value, interval, ratings, listeners, texts) in ranked(result) {
        let needed = result.scores.as_ref().map(|scores| {
            let mean = scores.voices.iter().find(|mean| mean.voice == voice);
            mean.and_then(|mean| mean.listeners_needed)
        });
        table.row([
            Cell::text(name(result, voice)),
            Cell::Estimate(unit(result.kind), value, interval),
            Cell::Count(ratings),
            Cell::Count(u64::from(listeners)),
            Cell::Count(u64::from(texts)),
            match needed {
                Some(Some(needed)) => Cell::Count(u64::from(needed)),
                Some(None) if listeners > 1 => Cell::text("more texts"),
                _ => Cell::Empty,
            },
        ]);
    }
    let mut note = match result.kind {
        PanelKind::Opinion => "Mean opinion from 1 (bad) to 5 (excellent).".to_owned(),
        PanelKind::Anchored => "Mean rating from 0 (bad) to 100 (excellent), beside an open reference.".to_owned(),
        PanelKind::Pairs => "How often the voice would be preferred to the average voice of the panel.".to_owned(),
    };
    note += " Intervals hold at 95 % for other listeners and other texts of this kind.";
    if result.scores.is_some() {
        note += &format!(" Listeners needed: in all, for an interval of ± {}.", result.within);
    }
    if let Some(agreement) = result.agreement {
        note += &format!(" Listeners agree with each other: alpha {agreement:.2} (1 full, 0 chance).");
    }
    if let Some(preferences) = &result.preferences
        && let (Some(share), Some(interval)) = (preferences.first_preferred, preferences.first_interval)
        && !interval.holds(0.5)
    {
        note +=
            &format!(" The sound heard first was preferred in {:.0} % of pairs: the order matters.", share * 100.0);
    }
    table.without_empty_columns().noted(note)
}

fn pairs(result: &PanelResult) -> Table {
    let is_pairs = result.kind == PanelKind::Pairs;
    let column = if is_pairs { "second preferred" } else { "difference" };
    let mut table = Table::new([("first", 0), ("second", 0), (column, 0), ("verdict", 0), ("listeners to tell", 1)])
        .titled("Which voices differ");
    for pair in all_pairs(result) {
        let better = if pair.difference > 0.0 { pair.second } else { pair.first };
        let verdict = if pair.differ() {
            Cell::text(format!("{} is liked better", name(result, better)))
        } else {
            Cell::text("cannot tell")
        };
        let figure = if is_pairs {
            let bounds = pair.interval.map(|i| Interval { low: odds(i.low), high: odds(i.high) });
            Cell::Estimate(Unit::Share, odds(pair.difference), bounds)
        } else {
            Cell::Difference(Unit::PerClip, pair.difference, pair.interval)
        };
        table.row([
            Cell::text(name(result, pair.first)),
            Cell::text(name(result, pair.second)),
            figure,
            verdict,
            match pair.listeners_needed {
                Some(needed) => Cell::Count(u64::from(needed)),
                None if !pair.differ() => Cell::text("more texts"),
                None => Cell::Empty,
            },
        ]);
    }
    table.without_empty_columns().noted(
        "Intervals are of each pair by itself; verdicts hold at 95 % for all pairs together (Holm). Listeners to tell: in all, to tell this difference in four of five panels.",
    )
}

fn listeners(result: &PanelResult) -> Table {
    let mut table = Table::new([
        ("listener", 0),
        ("answers", 0),
        ("checks failed", 0),
        ("most frequent answer", 2),
        ("with the others", 1),
        ("remark", 0),
    ])
    .titled("Listeners");
    let noted = |one: &&CollectedListener| one.careless.is_some() || !one.complete;
    let few = result.listeners.len() <= MOST_LISTENERS;
    for one in result.listeners.iter().filter(|one| few || noted(one)) {
        let conduct = &one.conduct;
        let mut notes = Vec::new();
        if let Some(careless) = one.careless {
            notes.push(format!("left out: {}", careless.in_words()));
        }
        if !one.complete {
            notes.push("incomplete".to_owned());
        }
        let frequent = f64::from(conduct.most_frequent) / f64::from(conduct.answers.max(1));
        table.row([
            Cell::Count(u64::from(one.listener)),
            Cell::Count(u64::from(conduct.answers)),
            Cell::text(format!("{} of {}", conduct.checks_failed, conduct.checks)),
            Cell::Figure(Unit::Share, frequent),
            Cell::number(conduct.with_others, 2),
            if notes.is_empty() { Cell::Empty } else { Cell::Warning(notes.join(", ")) },
        ]);
    }
    let others = result.listeners.len() - result.listeners.iter().filter(noted).count();
    let others = if few {
        String::new()
    } else {
        format!("{} answered all pages with care. ", plural(others as u64, "listener"))
    };
    table.noted(format!(
        "{others}Left out: more than a quarter of the checks failed, two at least; 19 of 20 answers the same, of 12 at least; or answers surely against those of the others (correlation below 0, p < 0.001).",
    ))
}

fn measures(result: &PanelResult) -> Table {
    let mut table = Table::new([("measure", 0), ("heard by", 1), ("orders voices as listeners do", 0), ("pairs", 1)])
        .titled("Measures beside the listeners");
    // Without an interval nothing is known; those of JSON are all.
    let sure = |one: &&MeasureAgreement| one.concordance.share.interval.is_some();
    let count = result.measures.iter().filter(sure).count();
    for agreement in result.measures.iter().filter(sure).take(MOST_MEASURES) {
        let Some(measure) = find(&agreement.measure) else { continue };
        let share = &agreement.concordance.share;
        table.row([
            Cell::Named(measure.id, measure.name),
            agreement.heard_by.as_ref().map_or(Cell::Empty, |heard_by| Cell::text(heard_by.as_str())),
            Cell::Estimate(Unit::Share, share.value, share.interval),
            Cell::Count(agreement.concordance.pairs),
        ]);
    }
    let mut note = "Of two voices with one text of which listeners liked one better: how often the measure says the same; 50 % is chance. Intervals are over texts, of each measure by itself.".to_owned();
    if count > MOST_MEASURES {
        note += &format!(" The {MOST_MEASURES} that agree best are shown, of {count}.");
    }
    table.without_empty_columns().noted(note)
}

fn left_out(result: &PanelResult) -> Table {
    let mut table = Table::new([("file", 0), ("left out because", 0)]).titled("Files left out");
    for file in &result.left_out {
        table.row([Cell::text(file.file.as_str()), Cell::Warning(file.why.clone())]);
    }
    table
}

/// Opinions with their intervals, best first.
pub fn panel_chart(result: &PanelResult) -> String {
    let ranked = ranked(result);
    let rows: Vec<IntervalRow> = ranked
        .iter()
        .map(|(voice, value, _, ratings, ..)| IntervalRow {
            name: name(result, *voice).to_owned(),
            size: format!("{}, {}", figures::figure(unit(result.kind), Some(*value)), plural(*ratings, "answer")),
        })
        .collect();
    let values = ranked.iter().map(|(_, value, interval, ..)| {
        Some(RateMark { value: *value, interval: interval.map(|interval| (interval.low, interval.high)) })
    });
    let series = [IntervalSeries { name: String::new(), values: values.collect() }];
    let (title, axis, form) = match result.kind {
        PanelKind::Opinion => (
            "What listeners think",
            "mean opinion, 1 bad to 5 excellent; bars are 95 % intervals over listeners and texts",
            IntervalAxis::Points { low: 1.0, high: 5.0, step: 1.0 },
        ),
        PanelKind::Anchored => (
            "What listeners think",
            "mean rating, 0 bad to 100 excellent; bars are 95 % intervals over listeners and texts",
            IntervalAxis::Points { low: 0.0, high: 100.0, step: 20.0 },
        ),
        PanelKind::Pairs => (
            "What listeners prefer",
            "preferred to the average voice; bars are 95 % intervals over listeners and texts",
            IntervalAxis::Share,
        ),
    };
    interval_svg(title, (axis, form), &rows, &series, ChartWidth::Wide)
}
