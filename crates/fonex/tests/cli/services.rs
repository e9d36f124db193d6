//! Whole runs against the stand-in service: nothing lost, nothing twice, nothing spent unasked, nothing told.

use std::collections::{BTreeMap, HashSet};
use std::process::Child;
use std::time::{Duration, Instant};

use fonex_standin::service::{Service, ServiceConfig};
use fonex_standin::{Behaviours, HearProfile, SpeakProfile};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde_json::Value;

use crate::util::{Folder, a_moment, corpus, share_sound};

const KEY: &str = "sk-Qz/4711+open=sesame";

fn service(change: impl FnOnce(&mut ServiceConfig)) -> Service {
    let hear = HearProfile { start_ms: 1.0, rtf: 0.0, ..HearProfile::default() };
    let speak = SpeakProfile { start_ms: 1.0, rtf: 0.0, ..SpeakProfile::default() };
    let engines = BTreeMap::from([
        ("ears".to_owned(), Behaviours::Hear([("default".to_owned(), hear)].into())),
        ("mouth".to_owned(), Behaviours::Speak([("default".to_owned(), speak)].into())),
    ]);
    let audio = fonex_core::audio::Audio { rate_hz: 16_000, samples: vec![0.0; 1_600] };
    let clip =
        |i: usize| serde_json::from_value(serde_json::json!({"id": format!("c{i}"), "text": "Hold at pylon six."}));
    let clips = (0..20).map(|i| (clip(i).unwrap(), audio.clone())).collect();
    let mut config = ServiceConfig { engines, clips, seed: 5, ..ServiceConfig::default() };
    change(&mut config);
    Service::start(config, 0).unwrap()
}

/// Clips and a bench with a recogniser and a synthesiser; `more` is added at the end.
fn bench(folder: &Folder, service: &Service, clips: usize, more: &str) {
    let ids: Vec<String> = (0..clips).map(|i| format!("c{i}")).collect();
    let clips: Vec<(&str, &str, &str)> = ids.iter().map(|id| (id.as_str(), "Hold at pylon six.", "radio")).collect();
    corpus(folder, &clips);
    let address = service.address();
    folder.write(
        "fonex.toml",
        format!(
            "corpus = \"corpus.jsonl\"\n\
             [engine.ears]\ntransport = \"http\"\ntask = \"hear\"\nsettings = {{ fault = \"none\", wait_ms = 1 }}\n\
             prices = {{ currency = \"EUR\", request = 0.5, audio_minute = 0.3 }}\n\
             [engine.ears.request]\nurl = \"http://{address}/hear\"\nbody = \"{{audio}}\"\n\
             query = {{ clip = \"{{clip_id}}\", fault = \"{{settings.fault}}\", wait_ms = \"{{settings.wait_ms}}\" }}\n\
             [engine.mouth]\ntransport = \"http\"\ntask = \"speak\"\n\
             voices = [{{ id = \"Ilka\", languages = [\"de\"], gender = \"female\" }}, {{ id = \"Bran\", price = 0.01 }}]\n\
             request = {{ url = \"http://{address}/speak\", json = {{ text = \"{{text}}\", voice = \"{{voice}}\" }} }}\n\
             prices = {{ currency = \"EUR\", character = 0.001 }}\n{more}"
        ),
    );
}

fn stored(folder: &Folder) -> Vec<(i64, String, i64, String)> {
    let Ok(database) = rusqlite::Connection::open(folder.path().join(".fonex/runs.db")) else { return Vec::new() };
    let Ok(mut select) = database.prepare("select variant, clip_id, repeat, coalesce(traffic, '{}') from trials")
    else {
        return Vec::new();
    };
    let rows = select.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?)));
    rows.map(|rows| rows.filter_map(Result::ok).collect()).unwrap_or_default()
}

#[test]
fn killed_at_a_hundred_random_moments_nothing_is_lost_and_nothing_done_twice() {
    const KILLS: u64 = 100;
    let (folder, service) = (Folder::new(), service(|config| config.fault_share = 0.3));
    let plan = "[plan.p]\nengines = [\"ears\"]\nrepeats = 100\nconcurrency = 4\nallow_failed = 100000\n";
    bench(&folder, &service, 20, &format!("[engine.ears.retry]\nattempts = 2\nfirst_wait_s = 0.005\n{plan}"));
    share_sound(&folder, 0.25);
    let mut random = Pcg64Mcg::seed_from_u64(11);
    let set = ["run", "p", "--set", "engine.ears.settings.wait_ms=40"];
    let mut before = HashSet::new();
    let mut kills = 0;
    while kills < KILLS {
        let mut child = folder.start(&set);
        // One kill in four falls into the start; the others after so many answers, however slow the machine is.
        let (at_start, answers) = (kills % 4 == 0, random.random_range(1..16));
        let (served, until) = (service.served(), Instant::now() + Duration::from_millis(random.random_range(1..40)));
        while if at_start { Instant::now() < until } else { service.served() < served + answers } {
            assert!(child.try_wait().unwrap().is_none(), "it must not end by itself yet");
            a_moment();
        }
        child.kill().unwrap();
        child.wait().unwrap();
        kills += 1;
        let rows = stored(&folder);
        let now: HashSet<_> =
            rows.iter().map(|(variant, clip, repeat, _)| (*variant, clip.clone(), *repeat)).collect();
        assert_eq!(now.len(), rows.len(), "nothing is there twice");
        assert!(before.is_subset(&now), "what was stored stays");
        before = now;
    }
    let hurried = [&set[..], &["--set", "plan.p.concurrency=32"]].concat();
    let done = folder.fonex(&hurried).expect(0);
    let rows = stored(&folder);
    assert_eq!((rows.len(), before.len() < rows.len()), (20 * 100, true));
    assert!(!before.is_empty(), "some trials were stored before a kill");
    // Every request that reached the service is in the store, but for those under way at a kill.
    let requests: usize = rows.iter().map(|row| row.3.matches("\"purpose\"").count()).sum();
    let served = service.served();
    assert!(served >= requests as u64 - rows.len() as u64, "resets never reach the count: {served} {requests}");
    assert!(served <= requests as u64 + KILLS * 4, "{served} requests served, {requests} kept");
    done.prints(&["2000"]);
}

fn contains(bytes: &[u8], needle: &str) -> bool {
    bytes.windows(needle.len()).any(|window| window == needle.as_bytes())
}

/// Looks for the key in the arguments of every process while a child runs.
fn shown_by_processes(child: &mut Child, needles: &[String]) -> Option<String> {
    let mut shown = None;
    while child.try_wait().unwrap().is_none() {
        for entry in std::fs::read_dir("/proc").unwrap().flatten() {
            let arguments = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
            if needles.iter().any(|needle| contains(&arguments, needle)) {
                shown = Some(String::from_utf8_lossy(&arguments).into_owned());
            }
        }
    }
    shown
}

#[test]
fn a_planted_key_is_found_nowhere() {
    let (folder, service) = (Folder::new(), service(|config| config.keys = vec!["another".to_owned()]));
    bench(
        &folder,
        &service,
        3,
        "[engine.ears.request.headers]\nAuthorization = \"Bearer {env.PLANTED}\"\n\
         [engine.teller]\ntransport = \"command\"\ntask = \"hear\"\nstdin = \"audio\"\nenv = { TOKEN = \"{env.PLANTED}\" }\n\
         command = [\"sh\", \"-c\", 'sleep 0.05; echo \"my token is $TOKEN\"; echo \"$TOKEN\" >&2; exit 3']\n\
         [engine.worker]\ntransport = \"worker\"\ntask = \"hear\"\nenv = { TOKEN = \"{env.PLANTED}\" }\n\
         command = [\"sh\", \"-c\", 'echo \"loading $TOKEN\"; echo \"{\\\"ready\\\":1,\\\"name\\\":\\\"v $TOKEN\\\"}\"; read -r line; echo \"$TOKEN\" >&2; exit 3']\n\
         [plan.p]\nengines = [\"ears\", \"teller\", \"worker\"]\nsettings = { }\n\
         [plan.faults]\nengines = [\"ears\"]\nsettings = { fault = [\"none\", \"reset\", \"malformed-json\"] }\n",
    );
    folder.write(".env", format!("PLANTED={KEY}\n"));
    let encoded: String = KEY
        .bytes()
        .map(|b| if b.is_ascii_alphanumeric() || b == b'-' { char::from(b).to_string() } else { format!("%{b:02X}") })
        .collect();
    let base64 = "c2stUXovNDcxMStvcGVuPXNlc2FtZQ".to_owned();
    let needles = [KEY.to_owned(), encoded, base64];
    let mut said = Vec::new();
    for plan in ["p", "faults"] {
        let mut child = folder.start(&["run", plan]);
        assert_eq!(shown_by_processes(&mut child, &needles), None);
        let done = folder.done(&["run", plan], child.wait_with_output().unwrap()).expect(3);
        done.err.lines().chain(done.out.lines()).for_each(|line| said.push(line.to_owned()));
        assert!(done.out.contains("look at PLANTED"), "{}", done.out);
    }
    folder.fonex(&["report", "1", "2", "-o", "report.html"]).expect(0);
    for arguments in [
        &["show", "1", "--format", "json"][..],
        &["engine", "probe", "ears"],
        &["engine", "list"],
        &["try", "ears", "c1"],
        &["try", "worker", "c1"],
    ] {
        let done = folder.fonex(arguments);
        said.push(done.out + &done.err);
    }
    let texts = said.join("\n");
    assert!(needles.iter().all(|needle| !texts.contains(needle)), "{texts}");
    assert!(texts.contains("my token is [PLANTED]") || texts.contains("its output: [PLANTED]"), "{texts}");
    let mut left = vec![folder.path().to_owned()];
    let mut files = 0;
    while let Some(path) = left.pop() {
        if path.is_dir() {
            left.extend(std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()));
        } else if path.file_name().unwrap() != ".env" {
            files += 1;
            let bytes = std::fs::read(&path).unwrap();
            let found = needles.iter().find(|needle| contains(&bytes, needle));
            assert_eq!(found, None, "{}", path.display());
        }
    }
    assert!(files >= 5);
}

#[test]
fn a_dry_run_sends_nothing_and_a_budget_stops_in_time() {
    let (folder, service) = (Folder::new(), service(|_| {}));
    bench(&folder, &service, 6, "[plan.p]\nengines = [\"ears\", \"mouth\"]\n[plan.p.budget]\nrequests = 5\n");
    let forecast: Value = folder.fonex(&["run", "p", "--dry-run", "--format", "json"]).expect(0).json();
    assert_eq!(service.served(), 0);
    let row = |i: usize| {
        (forecast[i]["variant"].as_str().unwrap(), &forecast[i]["trials"], forecast[i]["cost"].as_f64().unwrap())
    };
    // Six clips of two seconds: 6 x 0.5 and 12 s at 0.3 a minute. 18 characters each at 0.001, or Bran's own 0.01.
    let near = |a: f64, b: f64| (a - b).abs() < 1e-9;
    assert!(row(0).0 == "ears" && near(row(0).2, 3.06), "{forecast}");
    assert!(row(1).0 == "mouth/Ilka" && near(row(1).2, 0.108), "{forecast}");
    assert!(row(2).0 == "mouth/Bran" && near(row(2).2, 1.08), "{forecast}");
    assert_eq!((&forecast[1]["other_language"], row(1).1), (&6.into(), &6.into()));
    folder
        .fonex(&["run", "p", "--dry-run"])
        .expect(0)
        .prints(&["Nothing was sent", "4.25 EUR in all"])
        .says(&["mouth/Ilka speaks 6 clips in a language"]);
    assert!(!folder.path().join(".fonex").exists(), "looking makes no store");

    folder.fonex(&["run", "p"]).expect(3).says(&["would pass the budget of 5 requests", "stays unfinished"]);
    assert_eq!((service.served(), stored(&folder).len()), (5, 5));
    let left: Value = folder.fonex(&["run", "p", "--dry-run", "--format", "json"]).expect(0).json();
    let trials: u64 = left.as_array().unwrap().iter().map(|row| row["trials"].as_u64().unwrap()).sum();
    assert_eq!(trials, 13, "what is done is not sent again");
    folder
        .fonex(&["run", "p", "--set", "plan.p.budget.cost=2.2", "--set", "plan.p.budget.requests=100"])
        .expect(3)
        .says(&["a cost of 2.2"]);
    let view: Value = folder.fonex(&["show", "--format", "json"]).expect(0).json();
    let cost: f64 = view["variants"].as_array().unwrap().iter().map(|v| v["cost"]["cost"].as_f64().unwrap()).sum();
    assert!((1.5..=2.2).contains(&cost), "{cost}");
    folder.fonex(&["run", "p", "--set", "plan.p.budget.requests=100"]).expect(0).says(&["Resumed run 1"]);
    assert_eq!((service.served(), stored(&folder).len()), (18, 18));
    folder
        .fonex(&["compare", "1:mouth/Ilka", "1:mouth/Bran"])
        .expect(0)
        .prints(&["cost of a trial: mouth/Ilka 0.0180 EUR, mouth/Bran 0.1800 EUR"]);
}

#[test]
fn a_quota_stops_its_variant_and_the_rest_goes_on() {
    let (folder, service) = (Folder::new(), service(|_| {}));
    bench(&folder, &service, 6, "[plan.p]\nengines = [\"ears\"]\nsettings = { fault = [\"quota\", \"none\"] }\n");
    folder.fonex(&["run", "p"]).expect(3).says(&["ears fault=quota: its quota is used up", "stays unfinished"]);
    let variants: Vec<i64> = stored(&folder).iter().map(|row| row.0).collect();
    let of = |variant: i64| variants.iter().filter(|v| **v == variant).count();
    assert_eq!((of(0), of(1), service.served()), (1, 6, 7));
}

#[test]
fn a_worker_is_started_once_for_a_run_and_its_start_up_is_kept() {
    let (folder, service) = (Folder::new(), service(|_| {}));
    folder.write(
        "worker.sh",
        r#"echo start >> started
printf '{"ready":1,"name":"v 7"}\n'
while read -r line; do
    printf '{"id":%s,"text":"hold"}\n' "$(printf %s "$line" | sed 's/.*"id":\([0-9]*\).*/\1/')"
done
"#,
    );
    let worker = "[engine.worker]\ntransport = \"worker\"\ntask = \"hear\"\ncommand = [\"sh\", \"worker.sh\"]\n";
    bench(&folder, &service, 3, &format!("{worker}[plan.p]\nengines = [\"worker\"]\n"));
    let view: Value = folder.fonex(&["run", "p", "--format", "json"]).expect(0).json();
    assert_eq!(view["variants"][0]["engine_version"], "v 7");
    assert_eq!(folder.read("started"), "start\n");
    assert_eq!(stored(&folder).iter().filter(|row| row.3.contains("start_up_ms")).count(), 1);
}

#[test]
fn voices_are_listed_chosen_by_condition_and_checked() {
    let (folder, service) = (Folder::new(), service(|_| {}));
    bench(&folder, &service, 2, "[plan.p]\nengines = [\"mouth\"]\nvoices_where = \"gender = female\"\n");
    folder.fonex(&["engine", "voices", "mouth"]).expect(0).prints(&["2 voices from the bench file", "Ilka", "Bran"]);
    let female: Value = folder
        .fonex(&["engine", "voices", "mouth", "--where", "gender = female", "--format", "json"])
        .expect(0)
        .json();
    assert_eq!((female.as_array().unwrap().len(), &female[0]["id"]), (1, &"Ilka".into()));
    folder
        .fonex(&["run", "p"])
        .expect(0)
        .prints(&["mouth/Ilka", "mouth/Ilka reads 2 texts in a language that it does not list"]);
    let set = |change: &str| folder.fonex(&["run", "p", "--set", change]);
    set("plan.p.voices_where=gendr = female").expect(2).says(&["no field \"gendr\"", "write \"gender\""]);
    set("plan.p.voices=[\"Ilkka\"]").expect(2).says(&["\"Ilkka\"", "write \"Ilka\""]);
    set("plan.p.voices_where=gender = none").expect(2).says(&["nothing to run"]);
    folder.fonex(&["engine", "voices", "ears"]).expect(2).says(&["is not a synthesiser"]);
}

#[test]
fn ctrl_c_marks_nothing_done_and_leaves_no_job_on_the_server() {
    let (folder, service) = (Folder::new(), service(|_| {}));
    let address = service.address();
    bench(
        &folder,
        &service,
        2,
        &format!(
            "[engine.slow]\ntransport = \"http\"\ntask = \"hear\"\n\
             request = {{ url = \"http://{address}/jobs\", query = {{ wait_ms = \"60000\", clip = \"{{clip_id}}\" }}, body = \"{{audio}}\" }}\n\
             [engine.slow.job]\nid = \"/job/id\"\nstate = \"/state\"\ndone = [\"done\"]\nevery_s = 0.05\n\
             poll = {{ url = \"http://{address}/jobs/{{job}}\" }}\n\
             delete = {{ url = \"http://{address}/jobs/{{job}}\", method = \"DELETE\" }}\n\
             [plan.p]\nengines = [\"slow\"]\nconcurrency = 2\n"
        ),
    );
    let child = folder.start(&["run", "p"]);
    while service.jobs_left() < 2 {
        a_moment();
    }
    assert!(std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    folder
        .done(&["run", "p"], child.wait_with_output().unwrap())
        .expect(130)
        .says(&["was interrupted", "To resume: fonex run p"]);
    assert_eq!((service.jobs_left(), stored(&folder).len()), (0, 0));
}
