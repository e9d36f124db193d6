//! Runs by their names, runs that go, and engines that are broken beside engines that are not.

use serde_json::Value;

use crate::contract::RunLine;
use crate::util::{Folder, corpus};

const BENCH: &str = r#"
corpus = "corpus.jsonl"
[engine.marl]
transport = "standin"
task = "hear"
behaviour.default = { start_ms = 0, rtf = 0.0, base_errors = 0.2 }
[engine.osier]
transport = "standin"
task = "speak"
voices = ["Ilka"]
behaviour.Ilka = { start_ms = 0, rtf = 0.0 }
[plan.hear]
engines = ["marl"]
[plan.speak]
engines = ["osier"]
"#;

fn bench() -> Folder {
    let folder = Folder::new();
    corpus(&folder, &[("a", "Hold at pylon six", "radio"), ("b", "Cabin two", "desk")]);
    folder.write("fonex.toml", BENCH);
    folder
}

fn shown(folder: &Folder, run: &str) -> i64 {
    let view: Value = folder.fonex(&["show", run, "--format", "json"]).expect(0).json();
    view["run"]["id"].as_i64().unwrap()
}

#[test]
fn a_run_is_named_by_number_or_label_without_doubt() {
    let folder = bench();
    for label in ["2", "build", "build", "7", "w:1"] {
        folder.fonex(&["run", "hear", "--label", label, "--anew"]).expect(0);
    }
    for label in ["last", "#3", "label:x", " "] {
        folder.fonex(&["run", "hear", "--label", label]).expect(2).says(&["cannot be a label", "--label"]);
    }
    assert_eq!((shown(&folder, "3"), shown(&folder, "#3"), shown(&folder, "last")), (3, 3, 5));
    assert_eq!(shown(&folder, "7"), 4, "a label made of digits that is no run's number");
    folder.fonex(&["show", "2"]).expect(2).says(&[
        "2 is the number of one run and the label of run 1",
        "#2",
        "label:2",
    ]);
    assert_eq!((shown(&folder, "#2"), shown(&folder, "label:2")), (2, 1));
    folder.fonex(&["show", "build"]).expect(0).says(&["#3 is taken, the newest; the others are #2"]);
    folder.fonex(&["show", "#99"]).expect(2).says(&["no run \"#99\""]);
    folder.fonex(&["compare", "label:2:marl", "w:1:marl"]).expect(0).prints(&["w:1:marl against 2:marl"]);
    folder.fonex(&["compare", "nobody:marl", "1:marl"]).expect(2).says(&["no run \"nobody\""]);
}

#[test]
fn runs_are_relabelled_and_deleted_with_the_sound_that_only_they_have() {
    let folder = bench();
    folder.fonex(&["run", "speak", "--label", "w1"]).expect(0);
    folder.fonex(&["run", "hear", "--label", "w2"]).expect(0);
    folder.fonex(&["run", "speak", "--label", "w3", "--set", "engine.osier.behaviour.Ilka.pitch_hz=90"]).expect(0);
    let sounds = || std::fs::read_dir(folder.path().join(".fonex/audio")).unwrap().count();
    assert_eq!(sounds(), 4);
    let labels = || -> Vec<Option<String>> {
        let runs: Vec<RunLine> = folder.fonex(&["runs", "--format", "json"]).expect(0).json();
        runs.into_iter().map(|run| run.label).collect()
    };
    folder.fonex(&["runs", "relabel", "w2", "other"]).expect(0);
    assert_eq!(labels(), ["w1", "other", "w3"].map(|label| Some(label.to_owned())));
    folder.fonex(&["runs", "relabel", "other", "w1"]).expect(0).says(&["run 1 has the label \"w1\" as well"]);
    folder.fonex(&["runs", "relabel", "#2"]).expect(0).prints(&["Run 2 has no label."]);
    assert_eq!(labels()[1], None);
    folder.fonex(&["runs", "relabel", "#2", "last"]).expect(2).says(&["cannot be a label"]);

    let told = ["run 3 \"w3\" of plan speak: 2 trials", "2 sound files that no other run refers to"];
    folder.fonex(&["runs", "delete", "w3", "#3", "--dry-run"]).expect(0).prints(&told).prints(&["Would delete"]);
    assert_eq!(sounds(), 4, "a dry run deletes nothing");
    folder.fonex(&["runs", "delete", "w3"]).expect(0).prints(&told).prints(&["Deleted"]);
    assert_eq!(sounds(), 2);
    let runs: Vec<RunLine> = folder.fonex(&["runs", "--format", "json"]).expect(0).json();
    assert_eq!(runs.iter().map(|run| run.run).collect::<Vec<_>>(), [1, 2]);
    folder.fonex(&["show", "1"]).expect(0).prints(&["osier"]);
    folder.fonex(&["runs", "delete", "1", "2"]).expect(0);
    assert_eq!(sounds(), 0);
    folder.fonex(&["runs", "delete", "1"]).expect(2).says(&["no run \"1\""]);
    // The store goes on as before.
    folder.fonex(&["run", "hear"]).expect(0);
}

#[test]
fn sound_that_cannot_be_kept_is_no_trial_done() {
    let folder = bench();
    folder.write(".fonex/audio", "a file in the way");
    for _ in 0..2 {
        folder.fonex(&["run", "speak"]).expect(2).says(&["spoken audio cannot be kept", ".fonex/audio", "run again"]);
        let runs: Vec<RunLine> = folder.fonex(&["runs", "--format", "json"]).expect(0).json();
        assert_eq!((runs.len(), runs[0].trials, runs[0].state.as_str()), (1, 0, "unfinished"));
    }
    std::fs::remove_file(folder.path().join(".fonex/audio")).unwrap();
    folder.fonex(&["run", "speak"]).expect(0);
    let runs: Vec<RunLine> = folder.fonex(&["runs", "--format", "json"]).expect(0).json();
    assert_eq!((runs.len(), runs[0].trials, runs[0].state.as_str()), (1, 2, "finished"));
    assert_eq!(std::fs::read_dir(folder.path().join(".fonex/audio")).unwrap().count(), 2);
}

#[test]
fn a_broken_engine_stops_only_those_who_want_it() {
    let folder = bench();
    let broken = "[engine.tern]\ntransport = \"command\"\ntask = \"hear\"\ncomand = [\"x\"]\n[plan.both]\nengines = [\"marl\", \"tern\"]\n";
    folder.write("fonex.toml", format!("{BENCH}{broken}"));
    folder.fonex(&["run", "hear"]).expect(0);
    folder.fonex(&["try", "marl", "a"]).expect(0);
    folder.fonex(&["engine", "list"]).expect(0).says(&["unknown field \"comand\"", "engine.tern"]).prints(&["marl"]);
    for wants in [&["run", "both"][..], &["try", "tern", "a"], &["engine", "probe", "tern"]] {
        folder.fonex(wants).expect(2).says(&["unknown field \"comand\"", "fonex.toml:19", "write \"command\""]);
    }
    folder.fonex(&["run"]).expect(2).says(&["which of 2 plans?", "hear or speak"]);
}

#[test]
fn a_file_needs_no_corpus_to_be_tried() {
    let folder = bench();
    std::fs::remove_file(folder.path().join("corpus.jsonl")).unwrap();
    let done = folder.fonex(&["try", "marl", "audio/any.wav"]).expect(3);
    done.prints(&["marl: refused", "a stand-in hears only clips"]);
    folder.fonex(&["try", "marl", "a"]).expect(2).says(&["corpus.jsonl"]);
}

#[test]
fn a_bench_file_without_stand_ins_serves_none() {
    let folder = Folder::new();
    folder.write(
        "fonex.toml",
        "[engine.x]\ntransport = \"command\"\ntask = \"hear\"\ncommand = [\"cat\", \"{audio}\"]\n",
    );
    folder.fonex(&["standin", "serve", "--port", "0"]).expect(2).says(&["this bench file has no stand-in engine"]);
}

#[test]
fn results_are_scored_under_the_profile_of_the_bench_file_here() {
    let folder = Folder::new();
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"Leave at 7:30 p.m. with 5 kg\"}\n");
    folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"leave at seven thirty pm with five kilograms\"}\n");
    let score = |more: &[&str]| -> (String, f64) {
        let typed = [&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"], more].concat();
        let score: Value = folder.fonex(&typed).expect(0).json();
        (score["text_profile"].as_str().unwrap().to_owned(), score["words"]["wer"].as_f64().unwrap())
    };
    assert!(score(&[]) > ("neutral".to_owned(), 0.2));
    folder.write("fonex.toml", "text_profile = \"en\"\n");
    assert_eq!(score(&[]), ("en".to_owned(), 0.0));
    assert_eq!(score(&["--profile", "neutral"]).0, "neutral");
    folder.write("fonex.toml", "text_profile = \"xx\"\n");
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl"]).expect(0).says(&["using the neutral text profile", "xx"]);
}

#[test]
fn caption_files_of_a_folder_are_checked_and_summed() {
    let folder = Folder::new();
    folder.write(
        "corpus.jsonl",
        "{\"id\":\"a\",\"text\":\"hold at six\"}\n{\"id\":\"b\",\"text\":\"doors close now\"}\n",
    );
    folder.write("captions/a.srt", "1\n00:00:01,000 --> 00:00:03,000\nhold at six\n");
    folder.write("captions/b.vtt", "WEBVTT\n\n00:01.000 --> 00:03.000\ndoor close now\n");
    folder.write("captions/notes.txt", "no caption");
    let checked = folder.fonex(&["captions", "check", "captions", "--against", "corpus.jsonl"]).expect(0);
    checked.prints(&["captions/a.srt: 1 caption", "captions/b.vtt: 1 caption", "all 2 files", "16.7 %"]);
    std::fs::create_dir(folder.path().join("empty")).unwrap();
    folder.fonex(&["captions", "check", "empty"]).expect(2).says(&["holds no caption file"]);
}

#[test]
fn a_turn_takes_models_and_voices_by_name() {
    let folder = bench();
    let more = "[engine.quill]\ntransport = \"standin\"\ntask = \"reply\"\nmodels = [\"small\", \"large\"]\n\
                behaviour.large = { start_ms = 0 }\nbehaviour.small = { start_ms = 0 }\n";
    let voices = BENCH.replace("voices = [\"Ilka\"]", "voices = [\"Ilka\", \"Bran\"]");
    folder.write("fonex.toml", voices.replace("behaviour.Ilka", "behaviour.Bran") + more);
    let turns = |speak: &str| {
        let chain = ["turns", "a", "--hear", "marl", "--reply", "quill/large", "--speak", speak, "--format", "json"];
        folder.fonex(&chain)
    };
    let held: Value = turns("osier/Bran").expect(0).json();
    assert_eq!((&held["speak"], &held["reply"]), (&"osier/Bran".into(), &"quill/large".into()));
    assert_eq!(held["turns"].as_array().unwrap().len(), 1);
    turns("osier/Brann").expect(2).says(&["no model or voice \"Brann\"", "Bran"]);
    turns("oser/Bran").expect(2).says(&["no engine \"oser\"", "osier"]);
}

#[test]
fn notes_stay_with_a_run_wherever_it_goes() {
    let folder = Folder::new();
    folder.fonex(&["demo", "."]).expect(0);
    folder.fonex(&["runs", "note", "w46", "held back:\n radio \u{1b}[31mcalls", "--by", "anna"]).expect(0);
    folder.fonex(&["runs", "note", "w45", "accepted", "--by", "bo"]).expect(0);
    folder.fonex(&["runs"]).expect(0).prints(&["held back: radio", "accepted"]);
    folder.fonex(&["show", "w46"]).expect(0).prints(&["anna: held back: radio"]);
    folder.fonex(&["gate", "w46"]).expect(1).prints(&["anna: held back", "note on the baseline", "bo: accepted"]);
    folder.fonex(&["export", "w46", "-o", "run.jsonl"]).expect(0);
    folder.fonex(&["import", "run.jsonl", "--store", "taken"]).expect(0);
    folder.fonex(&["store", "copy", ".", "copied"]).expect(0);
    // A note of later follows with the next copy.
    folder.fonex(&["runs", "note", "w44", "later", "--by", "cy"]).expect(0);
    folder.fonex(&["store", "copy", ".", "copied"]).expect(0);
    folder.fonex(&["show", "last", "--store", "taken"]).expect(0).prints(&["anna: held back"]);
    let listed: Vec<Value> = folder.fonex(&["runs", "--store", "copied", "--format", "json"]).expect(0).json();
    let noted: Vec<&str> = listed.iter().filter_map(|run| run["notes"][0]["by"].as_str()).collect();
    assert_eq!(noted, ["cy", "bo", "anna"]);
    folder.fonex(&["report", "w46", "-o", "r.html"]).expect(0);
    assert!(folder.read("r.html").contains("anna: held back: radio"));
    folder.fonex(&["runs", "note", "w46", " "]).expect(2).says(&["the note is empty or too long"]);
    folder.fonex(&["runs", "note", "w99", "x"]).expect(2).says(&["no run \"w99\""]);
}

#[test]
fn a_shell_is_told_the_runs_plans_measures_and_clips_at_hand() {
    let folder = Folder::new();
    folder.fonex(&["demo", "."]).expect(0);
    let offered = |words: &[&str]| -> Vec<String> {
        let at = words.len().to_string();
        let asked = [("FONEX_COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", at.as_str()), ("_CLAP_IFS", "\n")];
        let done = folder.fonex_in(&[&["--", "fonex"], words].concat(), &asked).expect(0);
        done.out.lines().map(str::to_owned).collect()
    };
    assert_eq!(offered(&["show", "w4"]), ["w46", "w45", "w44", "w43", "w42", "w41"]);
    assert_eq!(offered(&["compare", "1:marl/"]), ["1:marl/river", "1:marl/brook"]);
    assert_eq!(offered(&["run", "wee"]), ["weekly"]);
    assert_eq!(offered(&["trend", "--measure", "wer,roc"]), ["wer,roc_area"]);
    assert_eq!(offered(&["compare", "1", "--by", "ch"]), ["channel"]);
    assert_eq!(offered(&["show", "1", "--clip", "radio-01"]).len(), 9);
    for shell in ["bash", "zsh", "fish"] {
        folder.fonex(&["completions", shell]).expect(0).prints(&["FONEX_COMPLETE", "fonex"]);
    }
    // Without a bench file nothing is known, and nothing is said.
    let empty = Folder::new();
    let asked = [("FONEX_COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", "2"), ("_CLAP_IFS", "\n")];
    assert_eq!(empty.fonex_in(&["--", "fonex", "run", "x"], &asked).expect(0).err, "");
}
