//! Who runs a plan on others' machines: puts the groups up, stores what comes back, and ends when everything has.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs;
use std::time::Duration;

use async_nats::jetstream::object_store::ObjectStore;
use fonex_core::{Clip, Outcome};
use fonex_engines::StopFlag;
use fonex_formats::{Place, Problem, audio_path, checksum};
use fonex_store::{Maker, Spoken, Store, TrialKey, TrialRecord};

use super::access::SpreadAddress;
use super::link::Link;
use super::pace::HELD;
use super::work::SHOW;
use super::{
    FORM, GroupMessage, JOBS, Job, JobClip, Names, OBJECTS, ResultMessage, SpokenBefore, WORKERS, asked_key,
    bench_print, message,
};
use crate::RunError;
use crate::bench::{Bench, Plan};
use crate::execute::{
    Claimed, Execution, Group, Interrupt, Material, Progress, Which, left_to_do, new_run, print_of,
};

/// Groups that are put up in one go, and results that are taken.
const ROUND: usize = 500;
/// How long a coordinator waits for results before it looks whether it was interrupted.
const LOOK: Duration = Duration::from_millis(500);
/// How long jobs and objects that nobody ended are kept.
pub(super) const KEPT: Duration = Duration::from_secs(14 * 24 * 3600);

/// How a run is spread.
#[derive(Debug, Clone)]
pub struct SpreadOptions {
    /// Only workers of this class of machine.
    pub class: Option<String>,
    /// After how long a group whose worker is silent comes again.
    pub lease: Duration,
    /// Deliveries after which a group is given up.
    pub most_deliveries: u32,
}

/// Executes a plan, or what is left of an interrupted run of it, on other machines.
///
/// # Errors
/// When the corpus cannot be read, the store cannot be written, or the server between the machines cannot be used. Then the job stays, and
/// the same command goes on with it.
pub fn execute_spread(
    bench: &Bench,
    plan: &Plan,
    which: Which<'_>,
    store: &mut Store,
    interrupt: &Interrupt,
    watch: &dyn Progress,
    (address, options): (&SpreadAddress, &SpreadOptions),
) -> Result<Execution, RunError> {
    if plan.budget != crate::bench::Budget::default() {
        let place = Place::file(&bench.path).field(format!("plan.{}.budget", plan.name));
        let problem = Problem::new("a budget is not kept across machines", place);
        return Err(problem
            .remedy("leave it out for this run (--set), or run the plan on this machine alone")
            .into());
    }
    let label = which.label();
    let link = Link::open(address, "fonex run")?;
    let corpus = bench.read_corpus(Some(plan))?;
    let material = Material::load(&corpus, bench, plan)?;
    let fingerprint = checksum::of_bytes(print_of(bench, plan, &corpus.checksum).as_bytes());
    let claimed = Claimed::take(store, &fingerprint, plan, which, || {
        Ok(new_run(bench, plan, label, fingerprint.clone(), &corpus, &material))
    })?;
    let (run, done) = (claimed.run, &claimed.done);
    let known = store.run(&fonex_store::RunRef::Number(run))?;
    let started_at = known.map(|run| run.started_at).ok_or(fonex_store::StoreError::NoRow)?;
    // Workers warm up by themselves, each before its first trial of a variant.
    let cold = Plan { warm_up: 0, ..plan.clone() };
    let todo = left_to_do(&cold, &material, done);
    let timed = done.iter().filter(|key| !key.warm_up).count();
    let left: usize = todo.iter().map(Vec::len).sum();
    watch.begun(run, (left + timed) as u64, timed as u64);
    let _heeding = interrupt.heed();

    let token = checksum::of_bytes(format!("{fingerprint} {started_at} {}", label.unwrap_or_default()).as_bytes())
        [..24]
        .to_owned();
    let spoken = store.spoken(run, plan.variants.iter().filter_map(|variant| variant.hears))?;
    let put_up = PutUp { link: &link, token: &token, bench, plan, options, interrupt };
    let job = put_up.job(&material, &corpus, store, &todo, &spoken, label, &started_at)?;
    let mut taking = Taking {
        link: &link,
        token: &token,
        plan,
        store,
        run,
        watch,
        lease: options.lease,
        warm: warm_ups(done),
        not_begun: Vec::new(),
    };
    let asking = link.bucket(WORKERS, HELD)?;
    let whole = link.while_telling(&asking, &asked_key(&token), SHOW, || taking.all(&todo, interrupt))??;
    let (not_begun, mut stopped) = (taking.not_begun, None);
    watch.ended();
    if whole {
        put_up.end(&job);
    } else {
        stopped = Some(
            "stopped; workers wait, and the same command takes what they have made and has them go on".to_owned(),
        );
    }
    claimed.end(store, stopped, not_begun, material.left_out)
}

/// The next warm-up trial of each variant: those of several workers are told apart by their numbers.
fn warm_ups(done: &HashSet<TrialKey>) -> HashMap<usize, u32> {
    let mut next: HashMap<usize, u32> = HashMap::new();
    for key in done.iter().filter(|key| key.warm_up) {
        let own = next.entry(key.variant).or_default();
        *own = (*own).max(key.repeat + 1);
    }
    next
}

/// Putting a job up.
struct PutUp<'p> {
    link: &'p Link,
    token: &'p str,
    bench: &'p Bench,
    plan: &'p Plan,
    options: &'p SpreadOptions,
    interrupt: &'p Interrupt,
}

impl PutUp<'_> {
    /// The job, put up whole: one that was put up in part is completed, one that is there is taken on.
    #[expect(clippy::too_many_arguments, reason = "what a job is made of")]
    fn job(
        &self,
        material: &Material,
        corpus: &fonex_formats::Corpus,
        store: &Store,
        todo: &[Group],
        spoken: &HashMap<TrialKey, Spoken>,
        label: Option<&str>,
        started_at: &str,
    ) -> Result<Job, RunError> {
        let (jobs, objects) = (self.link.bucket(JOBS, KEPT)?, self.link.objects(OBJECTS)?);
        let names = Names::of(self.token);
        let _todo = self.link.queue(&names.todo)?;
        let _done = self.link.queue(&names.done)?;
        let known =
            self.link.entry(&jobs, self.token)?.and_then(|entry| serde_json::from_slice::<Job>(&entry.value).ok());
        if let Some(known) = known.filter(|known| known.put == known.groups)
            && self.link.get_object(&objects, &known.clips)?.is_some()
        {
            return Ok(known);
        }
        let mut clips = String::new();
        for heardable in &material.usable {
            let path = audio_path(&corpus.folder, &heardable.clip).filter(|_| !heardable.sound.is_absent());
            let sound = path.map(|path| self.put_sound(&objects, &path)).transpose()?;
            let line = JobClip { clip: heardable.clip.clone(), sound };
            clips +=
                &serde_json::to_string(&line).map_err(|error| Problem::new(error.to_string(), Place::default()))?;
            clips.push('\n');
        }
        // They go with the job: another one over the same clips has its own.
        let clips_name = format!("{}.{}.clips", checksum::of_bytes(clips.as_bytes()), self.token);
        self.link.put_object(&objects, &clips_name, clips.as_bytes())?;
        let mut job = Job {
            form: FORM,
            fonex: env!("CARGO_PKG_VERSION").to_owned(),
            plan: self.plan.name.clone(),
            label: label.map(str::to_owned),
            started_at: started_at.to_owned(),
            bench: bench_print(self.bench, self.plan),
            clips: clips_name,
            class: self.options.class.clone(),
            groups: todo.len() as u64,
            put: 0,
            lease_s: self.options.lease.as_secs().max(1),
            most_deliveries: i64::from(self.options.most_deliveries),
        };
        let tell = |job: &Job| {
            let told = message(job)?;
            self.link.ask("tell of the job", jobs.put(self.token, told.into()))
        };
        tell(&job)?;
        let files = store.audio_files();
        for groups in todo.chunks(ROUND) {
            if self.interrupt.flag().is_set() {
                break;
            }
            let mut messages = Vec::with_capacity(groups.len());
            for keys in groups {
                let before = self.spoken_before(keys, spoken);
                if let Some(name) = before.as_ref().and_then(|before| before.audio_file.as_ref()) {
                    let bytes =
                        fs::read(files.path(name)).map_err(|error| Problem::io("read", &files.path(name), &error))?;
                    self.link.put_object(&objects, name, &bytes)?;
                }
                let group = GroupMessage { keys: keys.clone(), spoken: before };
                messages.push((id_of(self.token, keys), message(&group)?));
            }
            self.link.publish(&names.todo, messages)?;
        }
        if !self.interrupt.flag().is_set() {
            job.put = job.groups;
            tell(&job)?;
        }
        Ok(job)
    }

    /// What the voice that a group hears spoke before, where it does not speak in the group.
    fn spoken_before(&self, keys: &[TrialKey], spoken: &HashMap<TrialKey, Spoken>) -> Option<SpokenBefore> {
        let first = keys.first()?;
        let voice = self.plan.variants[first.variant].hears?;
        let Spoken { outcome, audio_file } = spoken.get(&TrialKey { variant: voice, ..first.clone() })?.clone();
        Some(SpokenBefore { outcome, audio_file })
    }

    fn put_sound(&self, objects: &ObjectStore, path: &std::path::Path) -> Result<String, Problem> {
        let bytes = fs::read(path).map_err(|error| Problem::io("read", path, &error))?;
        let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or("audio");
        let name = format!("{}.{ending}", checksum::of_bytes(&bytes));
        self.link.put_object(objects, &name, &bytes)?;
        Ok(name)
    }

    /// Removes a job that has ended, but for sound, which the next run may need again.
    fn end(&self, job: &Job) {
        let names = Names::of(self.token);
        if let Ok(jobs) = self.link.bucket(JOBS, KEPT) {
            drop(self.link.ask("end the job", jobs.purge(self.token)));
        }
        self.link.delete_queue(&names.todo);
        self.link.delete_queue(&names.done);
        if let Ok(objects) = self.link.objects(OBJECTS) {
            self.link.delete_object(&objects, &job.clips);
        }
    }
}

/// The same group of the same job has the same id, whoever puts it up.
fn id_of(token: &str, keys: &[TrialKey]) -> String {
    checksum::of_bytes(format!("{token} {keys:?}").as_bytes())[..32].to_owned()
}

/// Taking results.
struct Taking<'t> {
    link: &'t Link,
    token: &'t str,
    plan: &'t Plan,
    store: &'t Store,
    run: i64,
    watch: &'t dyn Progress,
    /// After how long what a coordinator took that vanished comes again.
    lease: Duration,
    warm: HashMap<usize, u32>,
    not_begun: Vec<String>,
}

impl Taking<'_> {
    /// Stores results until every trial has one; false when it was interrupted before.
    fn all(&mut self, todo: &[Group], interrupt: &Interrupt) -> Result<bool, RunError> {
        let mut waiting: HashSet<TrialIndex> = todo.iter().flatten().map(index).collect();
        let names = Names::of(self.token);
        let queue = self.link.queue(&names.done)?;
        let consumer = self.link.takes(&queue, self.lease)?;
        let objects = self.link.objects(OBJECTS)?;
        let mut versions: BTreeMap<String, String> = BTreeMap::new();
        while !waiting.is_empty() && !interrupt.flag().is_set() {
            let stop = interrupt.flag();
            let messages = self.link.patiently(stop, || self.link.fetch_soon(&consumer, ROUND, LOOK))?;
            let mut large = Vec::new();
            for message in &messages {
                let read = self.link.patiently(stop, || self.read(&objects, &message.payload))?;
                let Some((result, name)) = read else { continue };
                large.extend(name);
                for key in result.trials.iter().map(|trial| &trial.key) {
                    waiting.remove(&index(key));
                }
                if let Some(why) = &result.not_begun {
                    // What was not begun does not come any more.
                    waiting.retain(|waits| result.keys.iter().all(|key| index(key) != *waits));
                    if !self.not_begun.contains(why) {
                        self.not_begun.push(why.clone());
                    }
                }
                for (engine, version) in &result.versions {
                    versions.entry(engine.clone()).or_insert_with(|| version.clone());
                }
                self.keep(&objects, result, stop)?;
            }
            for message in &messages {
                // What is not heard of comes again, and is known.
                drop(self.link.done(message));
            }
            large.iter().for_each(|name| self.link.delete_object(&objects, name));
        }
        if !versions.is_empty() {
            let of_variants = self.plan.variants.iter().map(|variant| versions.get(&variant.engine).cloned());
            self.store.set_versions(self.run, &of_variants.collect::<Vec<_>>())?;
        }
        Ok(waiting.is_empty())
    }

    /// A result as it was published, and the object it lay in; none where it cannot be read, as from another program.
    fn read(&self, objects: &ObjectStore, body: &[u8]) -> Result<Option<(ResultMessage, Option<String>)>, Problem> {
        let Some(name) = std::str::from_utf8(body).ok().and_then(|text| text.strip_prefix("object ")) else {
            return Ok(serde_json::from_slice(body).ok().map(|result| (result, None)));
        };
        let bytes = self.link.get_object(objects, name)?;
        Ok(bytes.and_then(|bytes| serde_json::from_slice(&bytes).ok()).map(|result| (result, Some(name.to_owned()))))
    }

    fn keep(&mut self, objects: &ObjectStore, result: ResultMessage, stop: &StopFlag) -> Result<(), RunError> {
        let files = self.store.audio_files();
        let mut trials: Vec<TrialRecord> = Vec::with_capacity(result.trials.len());
        for mut trial in result.trials {
            // A worker that says what is no trial of this run is not believed.
            if trial.key.variant >= self.plan.variants.len() || trial.outcome == Outcome::Stopped {
                continue;
            }
            if trial.key.warm_up {
                let next = self.warm.entry(trial.key.variant).or_default();
                trial.key.repeat = *next;
                *next += 1;
            }
            if let Some(name) = trial.audio_file.clone() {
                match self.link.patiently(stop, || self.link.get_object(objects, &name))? {
                    Some(bytes) => {
                        let (sum, ending) = name.split_once('.').unwrap_or((&name, ""));
                        files
                            .keep(sum, ending, &bytes)
                            .map_err(|error| Problem::io("write", &files.path(&name), &error))?;
                    }
                    None => trial.audio_file = None,
                }
            }
            trials.push(trial);
        }
        self.store.save_trials(self.run, &trials)?;
        trials.iter().filter(|trial| !trial.key.warm_up).for_each(|trial| self.watch.trial(trial));
        Ok(())
    }
}

type TrialIndex = (usize, u32, String);

fn index(key: &TrialKey) -> TrialIndex {
    (key.variant, key.repeat, key.clip_id.clone())
}

/// Who made a trial, as every record of a spread run says.
pub(super) fn maker(worker: &str, class: &str) -> Maker {
    Maker { worker: worker.to_owned(), class: class.to_owned() }
}

/// A clip that a job names.
pub(super) fn clip_of(line: &str) -> Option<(Clip, Option<String>)> {
    let JobClip { clip, sound } = serde_json::from_str(line).ok()?;
    Some((clip, sound))
}
