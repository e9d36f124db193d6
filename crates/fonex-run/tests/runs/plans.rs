//! What a plan comes to: its variants, its clips, its overrides.

use std::collections::BTreeSet;

use fonex_core::{Clip, Delivery};
use fonex_run::Plan;
use proptest::prelude::*;

use crate::Folder;

fn list(items: &[String]) -> String {
    format!("{items:?}")
}

fn names(prefix: &str, count: usize) -> Vec<String> {
    (0..count).map(|at| format!("{prefix}{at}")).collect()
}

fn plan(toml: &str) -> Plan {
    let bench = Folder::default().bench(toml, &[]).unwrap_or_else(|problems| panic!("{problems:?}"));
    bench.plan(Some("p")).unwrap_or_else(|problem| panic!("{problem}")).clone()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    /// Models, voices and settings make every combination once, in their order, each with a name of its own.
    #[test]
    fn variants_are_every_combination_once(
        models in 0_usize..4, voices in 0_usize..4, pitches in 1_usize..4, speeds in 1_usize..4, chosen in any::<prop::sample::Index>(),
    ) {
        let (models, voices) = (names("m", models), names("v", voices));
        let only = if models.is_empty() { String::new() } else { format!("models = [{:?}]\n", models[chosen.index(models.len())]) };
        let values = |count: usize| (0..count).map(|at| at.to_string()).collect::<Vec<_>>().join(", ");
        let plan = plan(&format!(
            "[engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\nmodels = {}\nvoices = {}\n\
             [plan.p]\nengines = [\"osier\"]\n{only}settings = {{ pitch = [{}], speed = [{}] }}\n",
            list(&models), list(&voices), values(pitches), values(speeds)
        ));
        let of_models = if models.is_empty() { vec![String::new()] } else { vec![models[chosen.index(models.len())].clone()] };
        let of_voices = if voices.is_empty() { vec![String::new()] } else { voices };
        let mut expected = Vec::new();
        for model in &of_models {
            for voice in &of_voices {
                for pitch in 0..pitches {
                    for speed in 0..speeds {
                        expected.push((model.clone(), voice.clone(), pitch.to_string(), speed.to_string()));
                    }
                }
            }
        }
        let found: Vec<_> = plan.variants.iter().map(|v| {
            (v.model.clone(), v.voice.clone(), v.settings["pitch"].clone(), v.settings["speed"].clone())
        }).collect();
        prop_assert_eq!(&found, &expected);
        let named: BTreeSet<&str> = plan.variants.iter().map(|variant| variant.name.as_str()).collect();
        prop_assert_eq!(named.len(), expected.len());
    }

    /// A plan takes the clips whose every named value is among those listed.
    #[test]
    fn a_selection_is_and_over_keys_and_or_over_values(
        channels in prop::collection::btree_set("[abc]", 1..4), langs in prop::collection::btree_set("(en|de)", 0..3),
        clips in prop::collection::vec((prop::option::of("[abcd]"), prop::option::of("(en|de|fr)")), 1..12),
    ) {
        let lang = if langs.is_empty() { String::new() } else { format!(", lang = {:?}", langs.iter().collect::<Vec<_>>()) };
        let plan = plan(&format!(
            "[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\n[plan.p]\nengines = [\"marl\"]\n\
             select = {{ channel = {:?}{lang} }}\n", channels.iter().collect::<Vec<_>>()
        ));
        for (channel, lang) in clips {
            let clip = Clip {
                id: "c".into(),
                lang: lang.clone(),
                tags: channel.iter().map(|channel| ("channel".to_owned(), channel.clone())).collect(),
                ..Clip::default()
            };
            let expected = channel.is_some_and(|channel| channels.contains(&channel))
                && (langs.is_empty() || lang.is_some_and(|lang| langs.contains(&lang)));
            prop_assert_eq!(plan.selects(&clip), expected);
        }
    }
}

#[test]
fn deliveries_are_for_those_who_hear() {
    let plan = plan(
        "[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\n[engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\n\
         [plan.p]\nengines = [\"marl\", \"osier\"]\n\
         delivery = [\"whole\", { pieces = { window_s = 2 } }, { pauses = { longest_s = 8 } }, { live = { frame_ms = 20 } }]\n",
    );
    let found: Vec<(&str, Delivery)> = plan.variants.iter().map(|v| (v.name.as_str(), v.delivery)).collect();
    assert_eq!(found.len(), 5);
    let names: Vec<&str> = found.iter().map(|(name, _)| *name).collect();
    assert_eq!(names, ["marl", "marl pieces=2s", "marl pauses=0.3s-8s", "marl live frame=20ms", "osier"]);
    assert_eq!(found[1].1, Delivery::Pieces { window_s: 2.0, overlap_s: 0.0 });
    assert_eq!(found[4].1, Delivery::Whole);
}

#[test]
fn voices_are_chosen_by_name_and_by_what_they_are() {
    let catalogue = "[engine.osier]\ntransport = \"standin\"\ntask = \"speak\"\nvoices = [\
         { id = \"Ilka\", languages = [\"en-GB\"], gender = \"female\", price = 0.1 },\
         { id = \"Bran\", languages = [\"en-US\", \"de\"], gender = \"male\" },\
         { id = \"Sorrel\", languages = [\"fr\"], gender = \"female\" }]\n[plan.p]\nengines = [\"osier\"]\n";
    let chosen = |wish: &str| -> Vec<String> {
        plan(&format!("{catalogue}{wish}")).variants.into_iter().map(|variant| variant.voice).collect()
    };
    assert_eq!(chosen(""), ["Ilka", "Bran", "Sorrel"]);
    assert_eq!(chosen("voices = [\"Sorrel\", \"Ilka\"]"), ["Ilka", "Sorrel"], "in the order of the catalogue");
    assert_eq!(chosen("voices_where = 'gender = female and lang = en'"), ["Ilka"]);
    assert_eq!(chosen("voices_where = 'lang = de'"), ["Bran"]);
    assert_eq!(chosen("voices = [\"Bran\", \"Ilka\"]\nvoices_where = 'price < 1'"), ["Ilka"]);
}

#[test]
fn values_are_set_from_outside_and_told() {
    let toml = "seed = 1\n[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\nmodels = [\"a\", \"b\"]\n\
                [plan.p]\nengines = [\"marl\"]\n[plan.q]\nengines = [\"marl\"]\nrepeats = 2\n";
    let folder = Folder::default();
    let bench = folder
        .bench(toml, &["seed=9", "plan.p.models=[\"b\"]", "plan.q.repeats=5", "plan.q.budget.requests=7"])
        .unwrap_or_else(|problems| panic!("{problems:?}"));
    assert_eq!(bench.seed, 9);
    assert_eq!(bench.overrides.len(), 4);
    assert_eq!(bench.plan(Some("p")).unwrap().variants.len(), 1);
    let q = bench.plan(Some("q")).unwrap();
    assert_eq!((q.repeats, q.budget.requests, q.variants.len()), (5, Some(7), 2));
    assert!(bench.plan(None).is_err(), "which of two?");
    let before = folder.bench(toml, &[]).ok().unwrap();
    assert_eq!(before.checksum, bench.checksum, "the checksum is that of the file");
}
