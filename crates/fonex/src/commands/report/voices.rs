//! The voices of the report: a sheet to listen to, and what each costs against how well it is understood.

use fonex_analysis::{RunView, Side, VoiceCard, clip_result};
use fonex_core::Task;
use fonex_core::measures::find;
use fonex_core::text::Label;
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_report::{ChartFigure, SpokenBy, SpokenText, is_right_to_left};

use super::clips::{Cards, facts_of};
use crate::failure::Failure;
use crate::output::money;

impl Cards<'_> {
    /// Some texts of each run as all of its voices spoke them, with what recognisers heard.
    pub fn spoken(&mut self, runs: &[RunView], sides: &[Side<'_>]) -> Result<Vec<SpokenText>, Failure> {
        let mut texts = Vec::new();
        for run in runs {
            let of_run = |side: &&Side<'_>| side.run.run.id == run.run.id;
            let voices: Vec<Side<'_>> = sides
                .iter()
                .filter(of_run)
                .filter(|side| side.variant.variant.task == Task::Speak)
                .copied()
                .collect();
            if voices.is_empty() {
                continue;
            }
            let places = voices.iter().map(|side| side.variant.place);
            let spoken = self.store.spoken(run.run.id, places)?;
            let labels = self.store.clips(&run.run.corpus_checksum)?;
            let file = |voice: &Side<'_>, id: &str| {
                let key = fonex_store::TrialKey {
                    variant: voice.variant.place,
                    clip_id: id.to_owned(),
                    repeat: 0,
                    warm_up: false,
                };
                spoken.get(&key)?.audio_file.clone()
            };
            let with_sound: Vec<_> =
                labels.iter().filter(|clip| voices.iter().any(|voice| file(voice, &clip.id).is_some())).collect();
            // Spread over the corpus, not only its beginning; where texts have names and terms, those, so that they can be heard.
            let with_terms: Vec<_> = with_sound.iter().filter(|clip| !clip.terms.is_empty()).copied().collect();
            let chosen = if with_terms.len() >= self.worst { with_terms } else { with_sound };
            let count = self.worst.min(chosen.len());
            for clip in (0..count).map(|at| chosen[at * chosen.len() / count]) {
                let mut by = Vec::new();
                let mut right_to_left = false;
                for voice in &voices {
                    let name = self.names.of(*voice);
                    let audio = file(voice, &clip.id).and_then(|file| {
                        self.audio(&self.store.audio_files().path(&file), format!("{} by {name}", clip.id))
                    });
                    let mut heard = Vec::new();
                    let hears = |side: &&Side<'_>| side.variant.variant.hears == Some(voice.variant.place);
                    for side in sides.iter().filter(of_run).filter(hears) {
                        if let Some(result) = clip_result(self.store, side.run, side.variant, clip)? {
                            right_to_left |= is_right_to_left(&result.steps);
                            heard.push(self.reading(*side, &result));
                        }
                    }
                    by.push(SpokenBy { voice: name, audio, heard });
                }
                texts.push(SpokenText {
                    id: clip.id.clone(),
                    text: Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default(),
                    facts: facts_of(clip),
                    lang: clip.lang.clone().unwrap_or_default(),
                    right_to_left,
                    voices: by,
                });
            }
        }
        Ok(texts)
    }
}

/// How well each voice is understood against how soon it is heard, a series for each recogniser. None with fewer than two voices.
pub fn trade_off(runs: &[RunView]) -> Option<ChartFigure> {
    let (wer, first) = (find("wer")?, find("first_audible_p50")?);
    let mut series: Vec<PlaneSeries> = Vec::new();
    let mut behind = Vec::new();
    for card in runs.iter().flat_map(VoiceCard::of) {
        let Some(soon) = card.voice.measures.get(first.id) else { continue };
        let name = &card.voice.variant.name;
        if !card.on_front {
            behind.push(name.clone());
        }
        for (listener, heard) in &card.heard_by {
            let Some(rate) = heard.measures.get(wer.id) else { continue };
            let title = format!("heard by {listener}");
            let at = series.iter().position(|one| one.name == title).unwrap_or_else(|| {
                series.push(PlaneSeries { name: title, form: PlaneForm::Marks, ..PlaneSeries::default() });
                series.len() - 1
            });
            series[at].points.push((soon.value, rate.value));
            let price = card.voice.cost.as_ref().zip(card.voice.measures.get("cost_per_audio_minute"));
            let price = price.map(|(cost, each)| format!(", {}/min", money(each.value, Some(&cost.currency))));
            let place = if card.on_front { "" } else { ", behind" };
            series[at].labels.push(format!("{name}{}{place}", price.unwrap_or_default()));
            series[at].intervals.push(rate.interval.map(|interval| (interval.low, interval.high)));
        }
    }
    if series.iter().all(|one| one.points.len() < 2) {
        return None;
    }
    let chart = PlaneChart {
        title: "Which voice is understood, and how soon".to_owned(),
        x: PlaneAxis {
            label: "first audible sound, median, milliseconds".to_owned(),
            from_zero: true,
            ..PlaneAxis::default()
        },
        y: PlaneAxis {
            label: "word error rate of what is heard".to_owned(),
            percent: true,
            from_zero: true,
            ..PlaneAxis::default()
        },
        series,
        guides: Vec::new(),
        equal_units: false,
        note: "lower left is better; bars are 95 % intervals over clips: where they overlap, the order may be chance"
            .to_owned(),
    };
    let behind = if behind.is_empty() {
        "No voice has another that is surely better in one respect without being worse in another by what matters."
            .to_owned()
    } else {
        format!(
            "Another voice is surely better in one respect, without being worse in another by what matters, than {}.",
            behind.join(", ")
        )
    };
    Some(ChartFigure {
        narrow: None,
        svg: plane_svg(&chart),
        caption: format!("Understanding against delay. {behind}"),
    })
}
