//! `fonex demo`: the whole job on shipped data, from a labelled corpus to a verdict, a trend and a report.

use clap::Args;
use std::fs;
use std::path::{Path, PathBuf};

use fonex_formats::{Place, Problem};
use fonex_standin::service::{Service, ServiceConfig};
use include_dir::{Dir, include_dir};

use super::chosen::{MeasureArg, ProfileArg, UnitArg};
use super::selected::WhereArg;
use super::{compare, gate, panel, report, run, show, standin, trend};
use crate::brief;
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output;
use fonex_run::read_bench;

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex demo my-demo")]
pub struct DemoOptions {
    /// Folder to create
    #[arg(value_name = "DIR", default_value = "fonex-demo")]
    pub folder: PathBuf,
}

/// The corpus, its audio and the bench file.
static SHIPPED: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo/shipped");

/// The engines of services.toml.
const SERVED: [&str; 4] = ["marl", "tern", "osier", "quill"];
/// The variable of the shipped .env file that holds the stand-in service's key.
const KEY: &str = "FONEX_DEMO_KEY";

/// The weekly builds of the story; the last one made radio calls worse.
const WEEKS: [&str; 6] = ["w41", "w42", "w43", "w44", "w45", "w46"];

/// The demo keeps its runs in its folder, whichever store this machine uses otherwise.
fn own_store(folder: &Path, bench: &str) -> BenchArg {
    let store = folder.join(".fonex").to_string_lossy().into_owned();
    BenchArg { bench: folder.join(bench), store: Some(store) }
}

pub fn demo(options: &DemoOptions) -> Result<Code, Failure> {
    let demo = DemoFolder { folder: options.folder.clone(), bench: own_store(&options.folder, "fonex.toml") };
    demo.lay_out()?;
    brief::print_short();
    let folder = options.folder.display();
    output::print_lines(&format!(
        "Skarnfell Lifts, a cableway, wants to know which recogniser hears its radio calls and help points,\n\
         and which voice should read its announcements. The corpus, audio and bench file are in {folder}.\n\
         All engines here are stand-ins: simulated, seeded, with known behaviour.\n"
    ))?;

    demo.step("Two recognisers hear 40 labelled clips.", "fonex run recognisers")?;
    if demo.run("recognisers", None, &[])? {
        return Ok(Code::Interrupted);
    }
    demo.step("Which is better, where, and with what certainty?", "fonex compare 1 --by channel")?;
    demo.compare(&["1"], &["channel"])?;
    demo.step("What did they get wrong on one radio call?", "fonex show 1 --clip radio-006")?;
    demo.show_clip("1", "radio-006")?;
    demo.step("Four voices speak the announcements, and a recogniser hears them.", "fonex run voices")?;
    if demo.run("voices", None, &[])? {
        return Ok(Code::Interrupted);
    }
    demo.step(
        "Which voice do people like? A blind page for 12 listeners, who here are simulated.",
        "fonex panel build 2 -o panel.html --listeners 12\n\
         $ fonex standin listen panel.key.json --likes osier/Ilka=4.1,osier/Bran=3.2,osier/Sorrel=2,osier/Fenn=2.4 --careless 1\n\
         $ fonex panel collect panel.key.json ratings",
    )?;
    demo.panel()?;
    demo.step(
        "A new build of marl/river arrives every week and hears the radio calls.",
        "fonex run weekly --label w46 --set engine.marl.behaviour.river.build=w46",
    )?;
    for week in WEEKS {
        if demo.run("weekly", Some(week), &[format!("engine.marl.behaviour.river.build={week}")])? {
            return Ok(Code::Interrupted);
        }
    }
    demo.step("Did a build make it worse?", "fonex trend --plan weekly -o trend.svg")?;
    demo.trend()?;
    demo.step(
        "The build of w45 is accepted as the baseline. Does the next one pass the gate of the bench file?",
        "fonex gate w45 --accept\n$ fonex gate w46 -o gate.xml",
    )?;
    demo.gate()?;
    demo.step(
        "The same engines as services, over HTTP and WebSocket, beside a responder.",
        "fonex standin serve --key-from FONEX_DEMO_KEY & fonex run services --bench services.toml",
    )?;
    if demo.run_services()? {
        return Ok(Code::Interrupted);
    }
    demo.step(
        "One night osier's Ilka is replaced by another build, and its version does not say so. Did the voice change?",
        "fonex run voices --label next --set engine.osier.behaviour.Ilka.size=1.0\n\
         $ fonex compare 2:osier/Ilka next:osier/Ilka",
    )?;
    if demo.run("voices", Some("next"), &[OTHER_BUILD.to_owned()])? {
        return Ok(Code::Interrupted);
    }
    demo.compare(&["2:osier/Ilka", "next:osier/Ilka"], &[])?;
    demo.step(
        "Reports to share: the recognisers, and the voices with what listeners say.",
        "fonex report 1 -o report.html\n$ fonex report 2 --panel -o voices.html",
    )?;
    demo.report("1", "report.html", None)?;
    demo.report("2", "voices.html", Some("last"))?;
    demo.write_heard()?;
    output::print_lines(&format!(
        "\nDone. Open {}, {} and {}, and continue in {folder}:\n  \
         cd {folder}\n  fonex show 1               the answer in full: what stands out, and where to go on\n  \
         fonex try tern radio-006   one clip through one engine\n  fonex score corpus.jsonl heard.jsonl\n",
        options.folder.join("report.html").display(),
        options.folder.join("voices.html").display(),
        options.folder.join("trend.svg").display(),
    ))?;
    Ok(Code::Done)
}

/// What another build of a voice does differently.
const OTHER_BUILD: &str = "engine.osier.behaviour.Ilka.size=1.0";
/// What the demo's listeners think of its voices.
const PLANTED: [&str; 4] = ["osier/Ilka=4.1", "osier/Bran=3.2", "osier/Sorrel=2", "osier/Fenn=2.4"];

struct DemoFolder {
    folder: PathBuf,
    bench: BenchArg,
}

impl DemoFolder {
    /// Writes the shipped files; a demo that is there already is recreated, anything else is left alone.
    fn lay_out(&self) -> Result<(), Failure> {
        let store = self.folder.join(".fonex");
        let occupied = fs::read_dir(&self.folder).is_ok_and(|mut entries| entries.next().is_some());
        if occupied && !self.folder.join(MARK).is_file() {
            return Err(Problem::new("the folder is not empty", Place::file(&self.folder))
                .remedy("give a new folder: fonex demo DIR")
                .into());
        }
        if store.exists() {
            fs::remove_dir_all(&store).map_err(|error| Problem::io("remove", &store, &error))?;
        }
        write_dir(&SHIPPED, &self.folder)?;
        let mark = self.folder.join(MARK);
        fs::write(&mark, "Created by fonex demo, which may recreate this folder.\n")
            .map_err(|error| Problem::io("write", &mark, &error).into())
    }

    fn step(&self, what: &str, command: &str) -> Result<(), Failure> {
        output::print_lines(&format!("\n━━ {what}\n$ {command}\n\n"))
    }

    /// Runs a plan; gives whether it was interrupted.
    fn run(&self, plan: &str, label: Option<&str>, overrides: &[String]) -> Result<bool, Failure> {
        let options = run::RunOptions {
            #[cfg(feature = "team")]
            spreading: run::SpreadArg::default(),
            heard_by: Vec::new(),
            dry_run: false,
            plan: Some(plan.to_owned()),
            label: label.map(str::to_owned),
            commit: None,
            overrides: overrides.to_vec(),
            again: false,
            failed: None,
            outcome: Vec::new(),
            bench: self.bench.clone(),
            format: FormatArg { format: Format::Table },
        };
        // Of the weekly runs only the trend is shown.
        let code = if label.is_some() { run::run_quietly(&options)?.0 } else { run::run(&options)? };
        Ok(code == Code::Interrupted)
    }

    /// Serves the stand-ins on a free port of loopback while a plan asks them; gives whether it was interrupted.
    fn run_services(&self) -> Result<bool, Failure> {
        let bench = read_bench(&self.bench.bench, &[])?;
        let config = ServiceConfig { keys: vec![standin::key(&bench, KEY)?], ..standin::service_config(&bench)? };
        let service = Service::start(config, 0)
            .map_err(|error| Problem::new(format!("loopback cannot be served: {error}"), Place::default()))?;
        let port = service.address().port();
        let options = run::RunOptions {
            #[cfg(feature = "team")]
            spreading: run::SpreadArg::default(),
            heard_by: Vec::new(),
            dry_run: false,
            plan: Some("services".to_owned()),
            label: None,
            commit: None,
            overrides: SERVED.iter().map(|engine| format!("engine.{engine}.settings.port={port}")).collect(),
            again: false,
            failed: None,
            outcome: Vec::new(),
            bench: own_store(&self.folder, "services.toml"),
            format: FormatArg { format: Format::Table },
        };
        Ok(run::run(&options)? == Code::Interrupted)
    }

    fn compare(&self, runs: &[&str], by: &[&str]) -> Result<(), Failure> {
        let strings = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
        compare::compare_runs(&compare::CompareOptions {
            varied: false,
            matrix: false,
            flips: None,
            best_by: None,
            only: WhereArg::default(),
            all: false,
            output: None,
            runs: strings(runs),
            by: strings(by),
            measures: MeasureArg::default(),
            unit: UnitArg::default(),
            profile: ProfileArg::default(),
            bench: self.bench.clone(),
            format: FormatArg { format: Format::Table },
        })
        .map(drop)
    }

    fn show_clip(&self, run: &str, clip: &str) -> Result<(), Failure> {
        show::show(&show::ShowOptions {
            recordings: None,
            likeness: false,
            rank: Vec::new(),
            output: None,
            run: run.to_owned(),
            variant: None,
            clip: Some(clip.to_owned()),
            all: false,
            also: Vec::new(),
            by: Vec::new(),
            only: WhereArg::default(),
            worst: None,
            measures: MeasureArg::default(),
            profile: ProfileArg::default(),
            bench: self.bench.clone(),
            format: FormatArg { format: Format::Table },
        })
        .map(drop)
    }

    /// A panel of the voices, rated by stand-in listeners with planted opinions; one of them does not listen.
    fn panel(&self) -> Result<(), Failure> {
        let (page, key) = (self.folder.join("panel.html"), self.folder.join("panel.key.json"));
        let ratings = self.folder.join("ratings");
        // Those of a demo that was here before are of another panel.
        if ratings.exists() {
            fs::remove_dir_all(&ratings).map_err(|error| Problem::io("remove", &ratings, &error))?;
        }
        panel::build(&panel::PanelBuild {
            runs: vec!["2".to_owned()],
            kind: panel::Asked::Opinion,
            voices: Vec::new(),
            texts: 8,
            listeners: 12,
            pages: 36,
            checks: 4,
            practice: 2,
            show_text: false,
            seed: 1,
            output: page,
            bench: self.bench.clone(),
        })?;
        panel::listen(&panel::StandinListen {
            key: key.clone(),
            likes: PLANTED.map(str::to_owned).to_vec(),
            listeners: None,
            careless: 1,
            seed: 1,
            output: ratings.clone(),
        })?;
        panel::collect_ratings(&panel::PanelCollect {
            all: false,
            key: Some(key),
            files: vec![ratings],
            within: None,
            study: None,
            bench: self.bench.clone(),
            format: FormatArg { format: Format::Table },
        })
        .map(drop)
    }

    fn trend(&self) -> Result<(), Failure> {
        trend::trend_of_runs(&trend::TrendOptions {
            only: WhereArg::default(),
            by: Vec::new(),
            at: trend::At::Label,
            plan: Some("weekly".to_owned()),
            variant: None,
            slice: None,
            all: false,
            output: Some(self.folder.join("trend.svg")),
            measures: MeasureArg::default(),
            unit: UnitArg::default(),
            profile: ProfileArg::default(),
            unfinished: false,
            bench: self.bench.clone(),
            format: FormatArg { format: Format::Table },
        })
        .map(drop)
    }

    /// Accepts a build, and holds the one after against it.
    fn gate(&self) -> Result<(), Failure> {
        let options = gate::GateOptions {
            only: WhereArg::default(),
            runs: vec!["w45".to_owned()],
            baseline: None,
            accept: true,
            record: false,
            across: Vec::new(),
            output: Vec::new(),
            measures: MeasureArg::default(),
            unit: UnitArg::default(),
            profile: ProfileArg::default(),
            bench: self.bench.clone(),
            format: FormatArg { format: Format::Table },
        };
        // What an earlier demo accepted is of its own runs.
        drop(fs::remove_file(self.folder.join("baseline.jsonl")));
        gate::gate(&options)?;
        let output = vec![self.folder.join("gate.xml")];
        gate::gate(&gate::GateOptions { runs: vec!["w46".to_owned()], accept: false, output, ..options }).map(drop)
    }

    fn report(&self, run: &str, page: &str, panel: Option<&str>) -> Result<(), Failure> {
        report::report(&report::ReportOptions {
            only: WhereArg::default(),
            recordings: None,
            unit: UnitArg::default(),
            load: None,
            turns: None,
            panel: panel.map(str::to_owned),
            runs: vec![run.to_owned()],
            output: self.folder.join(page),
            worst: 6,
            sound: report::SoundForm::Embedded,
            clips: None,
            profile: ProfileArg::default(),
            bench: self.bench.clone(),
        })
        .map(drop)
    }

    /// Results as a file, so that `fonex score` has something to read.
    fn write_heard(&self) -> Result<(), Failure> {
        let store = self.bench.store().existing()?;
        let path = self.folder.join("heard.jsonl");
        let mut lines = String::new();
        for trial in store.trials(1)?.into_iter().filter(|trial| trial.key.variant == 1 && !trial.key.warm_up) {
            if let Some(mut heard) = trial.heard {
                heard.took_ms = trial.took_ms;
                lines += &fonex_formats::heard_line(&fonex_formats::HeardRecord::new(trial.key.clip_id, heard));
                lines.push('\n');
            }
        }
        fs::write(&path, lines).map_err(|error| Problem::io("write", &path, &error).into())
    }
}

/// A file that marks a folder as made by the demo.
const MARK: &str = ".made-by-fonex-demo";

fn write_dir(dir: &Dir<'_>, target: &Path) -> Result<(), Failure> {
    fs::create_dir_all(target).map_err(|error| Problem::io("make", target, &error))?;
    for file in dir.files() {
        let path = target.join(file.path());
        fs::write(&path, file.contents()).map_err(|error| Problem::io("write", &path, &error))?;
    }
    for inner in dir.dirs() {
        fs::create_dir_all(target.join(inner.path())).map_err(|error| Problem::io("make", target, &error))?;
        write_dir(inner, target)?;
    }
    Ok(())
}
