//! What each fact holds of trials that were stored once and for all: a fact that comes out otherwise needs another version, or
//! stores and baselines go on with what they kept.

use std::collections::BTreeMap;
use std::fmt::Write;

use fonex_analysis::Facts;
use fonex_core::measures::facts_of;
use fonex_store::{RunRef, Store};
use serde_json::Value;

use crate::versions::{of_version, stored, unpacked};

const GOLDEN: &str = include_str!("../stored/facts.txt");

/// What is held against the golden file of one fact.
#[derive(Debug, Clone, Default, PartialEq)]
struct Held {
    version: u32,
    numbers: usize,
    /// The sum of all numbers, each times its place: numbers that change places change it too.
    sum: f64,
}

impl Held {
    fn add(&mut self, version: u32, numbers: &[f64]) {
        self.version = version;
        for number in numbers {
            self.numbers += 1;
            self.sum += number * self.numbers as f64;
        }
    }

    fn is_like(&self, other: &Self) -> bool {
        let apart = (self.sum - other.sum).abs();
        self.numbers == other.numbers && apart <= 1e-9 * self.sum.abs().max(other.sum.abs())
    }
}

fn golden() -> BTreeMap<String, Held> {
    let lines = GOLDEN.lines().filter(|line| !line.starts_with('#'));
    let held = lines.map(|line| {
        let [id, version, numbers, sum] = line.split_whitespace().collect::<Vec<_>>().try_into().unwrap();
        let (version, numbers, sum) = (version.parse().unwrap(), numbers.parse().unwrap(), sum.parse().unwrap());
        (id.to_owned(), Held { version, numbers, sum })
    });
    held.collect()
}

/// The facts of all stored runs: those of an earlier version, and those made to have something of everything.
fn held_today() -> BTreeMap<String, Held> {
    let (folder, _) = of_version(9);
    for name in ["services", "live", "pieces", "voices", "programs"] {
        let file = format!("{name}.jsonl");
        folder.write(&file, unpacked(&stored().join(format!("trials/{file}.gz"))));
        folder.fonex(&["import", &file]).expect(0);
    }
    let mut store = Store::open(&folder.path().join(".fonex")).unwrap();
    let mut held: BTreeMap<String, Held> = BTreeMap::new();
    for run in 1..9 {
        let run = store.run(&RunRef::Number(run)).unwrap().unwrap();
        let facts = Facts::of(&mut store, &run, &run.text_profile).unwrap();
        for (place, variant) in run.variants.iter().enumerate() {
            for fact in facts_of(variant.task) {
                let column = facts.fact(&store, place, fact).unwrap();
                held.entry(fact.id.to_owned()).or_default().add(fact.version, column.all_rows());
            }
        }
    }
    held
}

#[test]
fn a_fact_that_comes_out_otherwise_has_another_version() {
    let (golden, today) = (golden(), held_today());
    let mut told = String::new();
    for (id, held) in &today {
        let why = match golden.get(id) {
            Some(then) if then.version != held.version => "has another version",
            Some(then) if !then.is_like(held) => "comes out otherwise: raise its version",
            Some(_) => continue,
            None => "is new",
        };
        writeln!(told, "{id} {why}; then its line is\n{id} {} {} {}", held.version, held.numbers, held.sum).unwrap();
    }
    assert!(told.is_empty(), "tests/stored/facts.txt:\n{told}");
    assert!(golden.keys().eq(today.keys()), "a fact that is gone has a line in tests/stored/facts.txt");
    let empty: Vec<&String> = today.iter().filter(|(_, held)| held.numbers == 0).map(|(id, _)| id).collect();
    assert_eq!(empty, ["weighted"], "only score weighs words: every other fact is seen here");
}

/// What another version kept is computed anew, and nothing else is: the words of one variant are made those of another, and stay.
#[test]
fn a_fact_that_is_missing_is_computed_and_the_others_stay() {
    let (folder, _) = of_version(9);
    let shown = || -> Value { folder.fonex(&["show", "1", "--format", "json"]).expect(0).json() };
    let before = shown();
    let value = |shown: &Value, variant: usize, id: &str| shown["variants"][variant]["measures"][id]["value"].clone();
    assert_ne!(value(&before, 0, "wer"), value(&before, 2, "wer"));

    let database = rusqlite::Connection::open(folder.path().join(".fonex/runs.db")).unwrap();
    let changed = |sql: &str| database.execute(sql, []).unwrap();
    // Figures are kept too; they are estimated again.
    assert!(changed("delete from facts where fact like 'figures%'") > 0);
    assert_eq!(changed("update facts set fact = 'took@9/0' where run_id = 1 and fact = 'took/0'"), 3);
    let words = "(select record from facts where run_id = 1 and variant = 2 and fact = 'words/0')";
    let of_first = "where run_id = 1 and variant = 0 and fact = 'words/0'";
    assert_eq!(changed(&format!("update facts set record = {words} {of_first}")), 1);

    let after = shown();
    for variant in 0..3 {
        assert_eq!(value(&after, variant, "latency_p50"), value(&before, variant, "latency_p50"));
    }
    assert_eq!(value(&after, 0, "wer"), value(&before, 2, "wer"), "what is kept is not computed again");
    let kept = "select count(*) from facts where run_id = 1 and fact = 'took/0'";
    assert_eq!(database.query_row(kept, [], |row| row.get::<_, i64>(0)).unwrap(), 3, "it is kept from now on");
}
