//! What is wrong with a bench file: said with its line, its field, what was expected and what to do.

use fonex_formats::Problem;

use crate::Folder;

const MARL: &str = "[engine.marl]\ntransport = \"standin\"\ntask = \"hear\"\nmodels = [\"brook\", \"river\"]\n";

/// All that is wrong with a bench file: of the whole, or of its engines and plans.
fn problems(toml: &str) -> Vec<Problem> {
    match Folder::default().bench(toml, &[]) {
        Err(problems) => problems,
        Ok(bench) => bench.broken.engines.into_values().chain(bench.broken.plans.into_values()).collect(),
    }
}

fn line_of(toml: &str, part: &str) -> u64 {
    toml.lines().position(|line| line.contains(part)).map_or(0, |at| at as u64 + 1)
}

#[test]
fn every_mistake_is_told_on_its_line() {
    // What is appended, a part of its line, and parts of what is said.
    let cases: [(&str, &str, &[&str]); 22] = [
        ("[plan.p]\nengines = [\"marel\"]\n", "engines", &["names an engine \"marel\"", "marl"]),
        (
            "[plan.p]\nengines = [\"marl\"]\nmodels = [\"rivr\"]\n",
            "models = [\"rivr\"]",
            &["\"rivr\" among its models", "river"],
        ),
        ("[plan.p]\nengines = [\"marl\"]\nvoices = [\"Ilka\"]\n", "voices", &["\"Ilka\" among its voices"]),
        ("[plan.p]\nengines = [\"marl\"]\nrepeats = 0\n", "repeats", &["repeats = 0", "1 or more"]),
        ("[plan.p]\nengines = [\"marl\"]\nconcurrency = 0\n", "concurrency", &["concurrency = 0"]),
        ("[plan.p]\nengines = [\"marl\"]\nrepeat = 2\n", "repeat = 2", &["repeat", "repeats"]),
        ("[plan.p]\nengines = []\n", "engines", &["has nothing to run"]),
        ("[plan.p]\nengines = [\"marl\", \"marl\"]\n", "engines", &["\"marl/brook\" twice"]),
        (
            "[plan.p]\nengines = [\"marl\"]\ndelivery = { pieces = { window_s = 0 } }\n",
            "delivery",
            &["cannot be cut with"],
        ),
        (
            "[plan.p]\nengines = [\"marl\"]\ndelivery = { pieces = { window_s = 2, overlap_s = 1.9 } }\n",
            "delivery",
            &["nine tenths"],
        ),
        (
            "[plan.p]\nengines = [\"marl\"]\ndelivery = { live = { speed = 0 } }\n",
            "delivery",
            &["cannot be streamed"],
        ),
        (
            "[plan.p]\nengines = [\"marl\"]\ndelivery = { pauses = { pause_s = 9, longest_s = 2 } }\n",
            "delivery",
            &["longest piece"],
        ),
        ("[plan.p]\nengines = [\"marl\"]\nload = { rates = [1e-320] }\n", "load", &["a rate is", "0.01 to 100000"]),
        ("[plan.p]\nengines = [\"marl\"]\nload = { concurrency = [5000] }\n", "load", &["concurrency of 5000"]),
        ("[plan.p]\nengines = [\"marl\"]\nload = { seconds = 0.0 }\n", "load", &["seconds is 0"]),
        ("[plan.p]\nengines = [\"marl\"]\nvoices_where = 'colour = red'\n", "voices_where", &["no field \"colour\""]),
        ("[plan.p]\nengines = [\"marl\"]\nvoices_where = 'lang = '\n", "voices_where", &[""]),
        ("[engine.tern]\ntransport = \"pigeon\"\ntask = \"hear\"\n", "pigeon", &["pigeon"]),
        ("[engine.tern]\ntransport = \"standin\"\n", "[engine.tern]", &["task"]),
        ("[engine.tern]\ntransport = \"standin\"\ntask = \"sing\"\n", "sing", &["sing"]),
        (
            "[engine.tern]\ntransport = \"standin\"\ntask = \"hear\"\nlimits = { requests_per_s = 0 }\n",
            "limits",
            &["requests_per_s"],
        ),
        (
            "[engine.tern]\ntransport = \"standin\"\ntask = \"hear\"\nretry = { attempts = 0 }\n",
            "retry",
            &["attempts"],
        ),
    ];
    for (part, on, said) in cases {
        let toml = format!("{MARL}{part}");
        let found = problems(&toml);
        let told = found.iter().find(|problem| {
            let text = problem.to_string();
            said.iter().all(|part| text.contains(part))
        });
        let told = told.unwrap_or_else(|| panic!("{part}: {found:?}"));
        assert_eq!(told.place.line, Some(line_of(&toml, on)), "{part}: {told}");
    }
}

#[test]
fn what_is_no_toml_is_told_with_its_line() {
    for (toml, line) in [("seed = \n", 1), ("[engine.a]\nx = 1\nx = 2\n", 3), ("a = 1\n[[\n", 2)] {
        let found = problems(toml);
        assert_eq!((found.len(), found[0].place.line), (1, Some(line)), "{found:?}");
    }
}

#[test]
fn a_broken_engine_takes_down_its_plans_and_no_others() {
    let toml = format!(
        "{MARL}[engine.tern]\ntransport = \"standin\"\ntask = \"sing\"\n\
         [plan.good]\nengines = [\"marl\"]\n[plan.bad]\nengines = [\"marl\", \"tern\"]\n"
    );
    let bench = Folder::default().bench(&toml, &[]).unwrap_or_else(|problems| panic!("{problems:?}"));
    assert!(bench.plan(Some("good")).is_ok() && bench.engine("marl").is_ok());
    let said = |problem: Problem| problem.to_string();
    assert!(said(bench.engine("tern").err().unwrap()).contains("sing"));
    assert!(bench.plan(Some("bad")).is_err());
    let near = said(bench.plan(Some("goood")).err().unwrap());
    assert!(near.contains("no plan \"goood\"") && near.contains("good"), "{near}");
}

#[test]
fn an_override_that_is_none_is_told() {
    let toml = format!("{MARL}[plan.p]\nengines = [\"marl\"]\n");
    for (typed, said) in [
        ("plan.p.repeats", "there is no ="),
        ("plan..repeats=1", "is not a path"),
        ("plan.p.repeats.x=1", "a whole number"),
        ("engine.marl.task.x=1", "a single value"),
        ("plan.p.repeets=3", "repeets"),
        ("plan.p.repeats=0", "repeats = 0"),
    ] {
        let told = match Folder::default().bench(&toml, &[typed]) {
            Err(problems) => format!("{problems:?}"),
            Ok(bench) => bench.plan(Some("p")).err().map_or_else(String::new, |problem| problem.to_string()),
        };
        assert!(told.contains(said), "{typed}: {told}");
    }
}
