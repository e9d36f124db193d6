//! A run in depth, section by section.

use std::collections::BTreeMap;

use clap::ValueEnum;
use fonex_analysis::{MANY_TRIALS, Material, Natural, RunView, Side, VariantView, by_kind, score_in_depth};
use fonex_run::profile_checksum;
use fonex_store::{RunState, Store};

use super::clips::worst_clips;
use super::notes::{cautions, costs, disputed, outcomes, requests, times};
use super::tables::{MOST_SIDE_BY_SIDE, by_slice, measures_tables, variants_table};
use super::voices::{pronunciation, scorecard};
use super::{KINDS, MadeAgain, made_again_in_words};
use crate::commands::in_depth::in_depth;
use crate::failure::Failure;
use crate::output::{self, percent, plural};

/// A part of a run's page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Section {
    /// Corpus, text profile, machine, versions, settings
    Details,
    /// Every measure of every variant
    Measures,
    /// The first measure by slice, and slices that differ
    Slices,
    /// Failed trials and cautions
    Failures,
    /// Voices side by side
    Voices,
    /// Must-hear terms
    Terms,
    /// Kinds of mistakes, word by word
    Mistakes,
    /// Latency by length, requests, warm-up
    Times,
    /// Cost
    Cost,
    /// The worst clips, word by word
    Worst,
}

/// What the sections are made of.
pub(super) struct Depth<'d> {
    pub(super) store: &'d Store,
    pub(super) view: &'d RunView,
    pub(super) natural: &'d [Natural],
    pub(super) made_again: &'d [MadeAgain],
    /// The worst clips of each variant.
    pub(super) worst: usize,
}

impl Depth<'_> {
    /// The sections asked for, in their own order.
    pub(super) fn text(&self, sections: &[Section]) -> Result<String, Failure> {
        let mut texts = Vec::new();
        for section in Section::value_variants().iter().filter(|section| sections.contains(section)) {
            texts.push(self.section(*section)?);
        }
        let shown = texts.iter().map(|text| text.trim_end()).filter(|text| !text.is_empty());
        Ok(shown.map(|text| format!("\n{}\n", text.trim_start_matches('\n'))).collect())
    }

    fn section(&self, section: Section) -> Result<String, Failure> {
        let Self { store, view, natural, .. } = *self;
        Ok(match section {
            Section::Details => details(view, self.made_again),
            Section::Measures => self.by_kind(|group, titled| {
                let titled =
                    |title: &str| if titled.is_empty() { title.to_owned() } else { format!("{titled}: {title}") };
                let mut text = format!("{}\n{}\n", titled("trials"), output::text(&variants_table(group)));
                if group.len() > MOST_SIDE_BY_SIDE {
                    return text + "every measure of one variant: --variant NAME; of all: --format csv\n";
                }
                for table in measures_tables(group, output::width()) {
                    text += &format!("{}\n", output::text(&table));
                }
                text
            }),
            Section::Slices => {
                let many = view.variants.iter().any(|variant| variant.extras.trials > MANY_TRIALS as u64);
                let text = self.by_kind(|group, _| {
                    by_slice(group, None).iter().map(|table| format!("{}\n", output::text(table))).collect()
                });
                let note =
                    "With this many trials, only the first measures are shown by slice; --format csv has all.\n";
                if many { text + note } else { text }
            }
            Section::Failures => outcomes(view) + &disputed(view) + &cautions(view),
            Section::Voices if view.variants.iter().any(|variant| variant.variant.hears.is_some()) => {
                output::text(&scorecard(view, natural, &[], &BTreeMap::new()))
            }
            Section::Voices => String::new(),
            Section::Terms => {
                let table = pronunciation(store, view)?;
                if table.is_empty() { String::new() } else { output::text(&table) }
            }
            Section::Mistakes => self.mistakes()?,
            Section::Times => [times(view), requests(view)].join("\n"),
            Section::Cost => costs(view),
            Section::Worst => worst_clips(store, view, self.worst)?,
        })
    }

    /// A text for each kind of variants; a title where there are several kinds.
    fn by_kind(&self, text: impl Fn(&[&VariantView], &str) -> String) -> String {
        let whole = |variant| Side { run: self.view, variant, material: Material::Whole };
        let sides: Vec<Side<'_>> = self.view.variants.iter().map(whole).collect();
        let mut all = String::new();
        for (group, title) in by_kind(&sides).into_iter().zip(KINDS) {
            let group: Vec<&VariantView> = group.iter().map(|side| side.variant).collect();
            if !group.is_empty() {
                let several = self.view.variants.len() > group.len();
                all += &text(&group, if several { title } else { "" });
            }
        }
        all
    }

    fn mistakes(&self) -> Result<String, Failure> {
        let mut text = String::new();
        for variant in &self.view.variants {
            let Some(score) = score_in_depth(self.store, self.view, variant)? else { continue };
            let own = in_depth(&score);
            if own.is_empty() {
                continue;
            }
            if self.view.variants.len() > 1 {
                text += &format!("\n━ {}\n", variant.variant.name);
            }
            text += &own;
        }
        Ok(text)
    }
}

fn details(view: &RunView, made_again: &[MadeAgain]) -> String {
    let run = &view.run;
    let label = run.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
    let state = if run.state == RunState::Finished { "" } else { ", unfinished" };
    let started = run.started_at.replace('T', " ");
    let mut text = format!("Run {}{label}{state}: plan {}, {started}\n", run.id, run.plan);
    let checksum = run.corpus_checksum.get(..8).unwrap_or_default();
    let profile = view.profile();
    let own = if view.scored_under.is_some() { ", not the run's own" } else { "" };
    text += &format!(
        "corpus {} ({checksum}), text profile {} ({}{own}), seed {}, Fonex {}\n",
        run.corpus_path,
        profile.name,
        &profile_checksum(profile)[..8],
        run.seed,
        run.fonex_version
    );
    let machine = &run.machine;
    text += &format!("{}, {}, {}\n", machine.cpu, plural(machine.cores as u64, "core"), machine.os);
    if let Some(busy) = machine.during {
        text += &format!(
            "during the run, other processes used {} of the processors, this program and its engines {}\n",
            percent(Some(busy.others)),
            percent(Some(busy.own))
        );
    }
    if let Some(commit) = &run.commit {
        text += &format!("commit {commit}\n");
    }
    if !run.overrides.is_empty() {
        text += &format!("set: {}\n", run.overrides.join(", "));
    }
    if !run.left_out.is_empty() {
        text += &format!("{} could not be used\n", plural(run.left_out.len() as u64, "clip"));
    }
    if !made_again.is_empty() {
        text += &format!("{}\n", made_again_in_words(made_again));
    }
    text
}
