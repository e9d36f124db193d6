//! What Fonex wrote, and somebody changed: trials of an exported run, baselines, panels, columns of facts.

use fonex_analysis::Column;
use fonex_analysis::gate::Baseline;
use fonex_analysis::panel::{PanelKey, collect, read_ratings};
use fonex_formats::{Place, parse_strict};
use fonex_store::TrialRecord;

use crate::Target;

pub(crate) const TRIALS: Target = Target {
    name: "trials",
    ending: "jsonl",
    whole: || vec![include_bytes!("../seeds/trials.jsonl").into()],
    read: |_, bytes| {
        for line in String::from_utf8_lossy(bytes).lines() {
            let Ok(trial) = parse_strict::<TrialRecord>(line, Place::default()) else { continue };
            let written = serde_json::to_string(&trial).expect("it was read");
            let again: TrialRecord = serde_json::from_str(&written).expect("we wrote it");
            assert_eq!(again, trial, "what is written is what was read");
        }
    },
};

pub(crate) const BASELINES: Target = Target {
    name: "baselines",
    ending: "jsonl",
    whole: || vec![include_bytes!("../seeds/baseline.jsonl").into()],
    read: |path, bytes| drop(Baseline::parse(&String::from_utf8_lossy(bytes), path)),
};

pub(crate) const PANELS: Target = Target {
    name: "panels",
    ending: "json",
    whole: || vec![include_bytes!("../seeds/panel.key.json").into(), include_bytes!("../seeds/ratings.json").into()],
    read: |_, bytes| {
        let text = String::from_utf8_lossy(bytes);
        let place = Place::default();
        let own = PanelKey::parse(include_str!("../seeds/panel.key.json"), &place).expect("it is whole");
        drop(read_ratings(&text, &place, &own));
        if let Ok(key) = PanelKey::parse(&text, &place)
            && let Ok(ratings) = read_ratings(include_str!("../seeds/ratings.json"), &place, &key)
        {
            drop(collect(&key, vec![("a".to_owned(), ratings)], Vec::new(), 0.25));
        }
    },
};

pub(crate) const COLUMNS: Target = Target {
    name: "columns",
    ending: "bin",
    whole: || {
        let mut column = Column::new(2);
        column.push(&[1.0, 2.0]);
        column.push(&[0.5, f64::NAN, 7e9, -1.0]);
        vec![column.encode(), Column::new(1).encode()]
    },
    read: |_, bytes| {
        if let Some(column) = Column::decode(bytes) {
            let written = column.encode();
            let again = Column::decode(&written).expect("we wrote it");
            assert_eq!(again.encode(), written, "what is written is what was read");
        }
    },
};
