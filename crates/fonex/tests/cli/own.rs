//! Measures of one's own: by a condition, by a program, and everything that can be wrong with either.

use serde_json::{Value, json};

use crate::util::{Folder, corpus};

/// Four orders; the second is not taken right, the third has no answer, the fourth is no order.
fn world(measures: &str) -> Folder {
    let folder = Folder::new();
    corpus(
        &folder,
        &[
            ("a", "two tickets to the summit", "till"),
            ("b", "three tickets to the lake", "till"),
            ("c", "one ticket to the lake", "till"),
            ("d", "good morning", "hall"),
        ],
    );
    let heard = [("a", "two tickets to the summit"), ("b", "tree tickets to the lake"), ("d", "good mourning")];
    let lines: String =
        heard.iter().map(|(id, text)| json!({"id": id, "text": text, "took_ms": 5}).to_string() + "\n").collect();
    folder.write("r.jsonl", lines);
    bench(&folder, measures);
    folder.fonex(&["run"]).expect(3);
    folder
}

fn bench(folder: &Folder, measures: &str) {
    let bench = "corpus = \"corpus.jsonl\"\n[engine.ear]\ntransport = \"recorded\"\ntask = \"hear\"\n\
                 results = \"r.jsonl\"\n[plan.all]\nengines = [\"ear\"]\n";
    folder.write("fonex.toml", format!("{bench}{measures}"));
}

fn value(folder: &Folder, id: &str) -> Option<(f64, u64)> {
    let shown: Value = folder.fonex(&["show", "last", "--format", "json"]).expect(0).json();
    let measure = &shown["variants"][0]["measures"][id];
    Some((measure["value"].as_f64()?, measure["clips"].as_u64()?))
}

#[test]
fn a_condition_is_the_share_of_clips_in_which_it_holds() {
    let folder = world(
        "[measure.ordered]\nname = \"order taken right\"\nwhere = \"channel = till\"\nholds = \"errors = 0\"\n\
         [measure.ordered_of_all]\nwhere = \"channel = till\"\nholds = \"errors = 0\"\ntrials = \"all\"\n\
         [measure.lake]\nholds = \"heard ~ LAKE and not variant = other\"\nbetter = \"neither\"\ncompared = false\n\
         [measure.slow]\nholds = \"took_ms > 4 and words >= 5\"\n\
         [gate.limit.orders]\nmeasure = \"ordered\"\nat_least = 0.4\nexact = true\n",
    );
    // By hand: of the two orders with an answer one; of all three one; of three answers one holds "lake".
    assert_eq!(value(&folder, "ordered"), Some((0.5, 2)));
    assert_eq!(value(&folder, "ordered_of_all"), Some((1.0 / 3.0, 3)));
    assert_eq!(value(&folder, "lake"), Some((1.0 / 3.0, 3)));
    assert_eq!(value(&folder, "slow"), Some((2.0 / 3.0, 3)));
    folder.fonex(&["gate"]).expect(0).prints(&["order taken right", "50.0 %", "at least 40.0 %"]);
    folder.fonex(&["run", "--anew"]).expect(3).prints(&["lake", "slow", "66.7 %"]);
    folder.fonex(&["compare", "1", "2"]).expect(0).prints(&["order taken right", "slow"]);
    folder
        .fonex(&["trend", "--measure", "ordered"])
        .expect(0)
        .prints(&["no change in order taken right over 2 runs", "50.0 %"]);
    let listed: Vec<Value> = folder.fonex(&["measures", "--format", "json"]).expect(0).json();
    let own = listed.iter().find(|measure| measure["id"] == "ordered").unwrap();
    assert_eq!((own["unit"].as_str(), own["better"].as_str()), (Some("share"), Some("higher")));
    assert_eq!(own["about"], "trials for which errors = 0, of those for which channel = till");
    // Another definition is another measure: what was kept is not taken for it.
    bench(&folder, "[measure.ordered]\nwhere = \"channel = till\"\nholds = \"errors <= 1\"\n");
    assert_eq!(value(&folder, "ordered"), Some((1.0, 2)));
}

/// A program that counts the letters of what was heard, and notes how often it is started.
const LETTERS: &str = "import json, sys\nopen('starts', 'a').write('x')\nfor line in sys.stdin:\n    trial = json.loads(line)\n    \
                       print('null' if trial['clip'] == 'd' else len(trial['heard']))\n";

#[test]
fn a_program_answers_a_number_for_each_trial() {
    let defined =
        "[measure.letters]\nprogram = [\"python3\", \"letters.py\"]\nunit = \"per_clip\"\nbetter = \"higher\"\n";
    let folder = world("");
    folder.write("letters.py", LETTERS);
    bench(&folder, defined);
    assert_eq!(value(&folder, "letters"), Some((24.5, 2)));
    assert_eq!(value(&folder, "letters"), Some((24.5, 2)));
    assert_eq!(folder.read("starts"), "x", "kept facts are not asked for again");
    bench(&folder, &format!("{defined}figure = \"median\"\n"));
    assert_eq!(value(&folder, "letters").map(|(_, clips)| clips), Some(2));
    assert_eq!(folder.read("starts"), "x", "the trials' numbers are the same whatever is made of them");
    folder.write("letters.py", LETTERS.replace("len(trial['heard'])", "'true'"));
    bench(&folder, defined);
    assert_eq!(value(&folder, "letters"), Some((1.0, 2)), "another program is another measure");
    assert_eq!(folder.read("starts"), "xx");
}

#[test]
fn programs_that_misbehave_cost_their_measure_alone() {
    let folder = world("");
    for (program, why) in [
        ("import sys\nsys.exit('no licence')", "ended with exit status: 1: no licence"),
        ("print(1)", "answered 1 lines to 3 trials"),
        ("for line in open(0):\n    print('much')", "answered \"much\" in line 1"),
        ("for line in open(0):\n    print('[1]')", "a number, true, false or null was expected"),
        ("import sys\nsys.stdout.buffer.write(b'\\xff\\n' * 3)", "no UTF-8"),
        ("print('1' * 100000)", "wrote more than a line for each trial"),
        ("import time\ntime.sleep(60)", "took longer than 0.5 s"),
        ("for line in open(0):\n    print('1e400')", "was expected"),
    ] {
        folder.write("bad.py", program);
        // Only what never ends is to meet its limit: a busy machine takes long to start a program.
        let limit_s = if program.contains("sleep") { 0.5 } else { 30.0 };
        bench(&folder, &format!("[measure.bad]\nprogram = [\"python3\", \"bad.py\"]\ntime_limit_s = {limit_s}\n"));
        let shown = folder.fonex(&["show", "last"]).expect(0).prints(&["WER"]).says(&["bad is not measured", why]);
        assert!(!shown.out.contains("bad "), "{}", shown.out);
    }
    bench(&folder, "[measure.bad]\nprogram = [\"./nowhere\"]\n");
    folder.fonex(&["show", "last"]).expect(0).says(&["./nowhere cannot be started"]);
    bench(&folder, "[measure.bad]\nholds = \"chanel = till\"\n");
    folder.fonex(&["show", "last"]).expect(0).says(&["no trial has the field or tag \"chanel\""]);
}

#[test]
fn slips_in_definitions_are_told_and_stop_nothing_else() {
    let folder = world("");
    for (measure, wanted) in [
        ("[measure.wer]\nholds = \"errors = 0\"\n", ["a measure of Fonex itself", "another name"]),
        ("[measure.Orders]\nholds = \"errors = 0\"\n", ["\"Orders\" cannot name a measure", "small letters"]),
        ("[measure.a]\n", ["this measure is not defined", "holds = \"CONDITION\""]),
        ("[measure.a]\nholds = \"errors =\"\n", ["column 9", "measure.a.holds"]),
        ("[measure.a]\nholds = \"errors = 0\"\nwhere = \"(\"\n", ["column 2", "measure.a.where"]),
        ("[measure.a]\nholds = \"errors = 0\"\nunit = \"ms\"\n", ["counted as a share", "leave out unit"]),
        ("[measure.a]\nholds = \"errors = 0\"\nunits = \"ms\"\n", ["units", "unit"]),
        ("[measure.a]\nprogram = []\n", ["not defined", "program"]),
        ("[measure.a]\nprogram = [\"x\"]\ntime_limit_s = 0\n", ["time_limit_s is 0", "above 0"]),
    ] {
        bench(&folder, measure);
        folder.fonex(&["show", "last"]).expect(0).prints(&["WER"]).says(&wanted).says(&["caution"]);
    }
    bench(&folder, "[measure.a]\nholds = \"errors = 0\"\n[plan.all]\n");
    folder.fonex(&["show", "last"]).expect(0).says(&["the measures of the bench file are left out"]);
}
