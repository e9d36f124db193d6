//! A worker with a job: its groups of trials, one after the other and several at a time.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use async_nats::jetstream::object_store::ObjectStore;
use async_nats::jetstream::{AckKind, Message, kv};
use fonex_core::{Clip, Outcome};
use fonex_engines::SharedPace;
use fonex_formats::{Place, Problem, checksum};
use fonex_store::{AudioFiles, Spoken, TrialKey, TrialRecord, is_audio_name};
use tempfile::TempDir;

use super::coordinate::{clip_of, maker};
use super::link::Link;
use super::pace::Together;
use super::shown::Shown;
use super::work::{LOOK, SHOW};
use super::{GroupMessage, Job, Names, ResultMessage, WorkOptions, asked_key};
use crate::RunError;
use crate::bench::{Bench, Plan};
use crate::execute::{Crew, Engines, Heardable, Interrupt, Material, Progress, Sound, WhenOver, engines, no_thread};

/// A worker with a job.
pub(super) struct AtWork<'w> {
    pub(super) link: &'w Link,
    pub(super) objects: &'w ObjectStore,
    pub(super) bench: &'w Bench,
    pub(super) plan: &'w Plan,
    pub(super) options: &'w WorkOptions,
    pub(super) interrupt: &'w Interrupt,
    pub(super) shown: &'w Shown<'w>,
}

/// The coordinator shows how a spread run goes.
struct Unwatched;

impl Progress for Unwatched {
    fn begun(&self, _: i64, _: u64, _: u64) {}
    fn trial(&self, _: &TrialRecord) {}
    fn halted(&self, _: &str, _: &str) {}
    fn ended(&self) {}
}

/// What a job needs on this machine, gone when it ends.
struct Equipped {
    _folder: TempDir,
    material: Material,
    engines: Engines,
    files: AudioFiles,
    /// The object with the sound of each clip, and where it is to lie.
    sounds: HashMap<String, (String, PathBuf)>,
    versions: BTreeMap<String, String>,
}

impl AtWork<'_> {
    /// Trials at a time.
    fn at_once(&self) -> usize {
        self.options.concurrency.unwrap_or(self.plan.concurrency as usize).max(1)
    }

    /// Makes groups of a job until it has ended, or none comes.
    pub(super) fn job(&self, job: &Job, token: &str, jobs: &kv::Store, pace: &Arc<Together>) -> Result<(), RunError> {
        let stop = self.interrupt.flag();
        let Some(equipped) = self.equip(job, pace)? else {
            stop.pause(LOOK);
            return Ok(());
        };
        self.shown.works_on(Some(&job.plan));
        let engines = &equipped.engines;
        let crew = Crew::new(self.bench, self.plan, &equipped.material, engines, HashMap::new(), stop, &Unwatched);
        let names = Names::of(token);
        let lease = Duration::from_secs(job.lease_s);
        let (begun, over) = (Instant::now(), AtomicBool::new(false));
        let warmed: Mutex<HashMap<usize, usize>> = Mutex::default();
        let at_once = self.at_once();
        let failure: Mutex<Option<RunError>> = Mutex::default();
        thread::scope(|scope| {
            for number in 0..at_once {
                let spawned = thread::Builder::new().name("fonex-trial".to_owned()).spawn_scoped(scope, || {
                    let worked = (|| {
                        let queue = self.link.queue(&names.todo)?;
                        let consumer = self.link.takes(&queue, lease)?;
                        let mut looked = Instant::now();
                        while !stop.is_set() && !over.load(Ordering::SeqCst) {
                            let ended = || {
                                let gone = self.link.entry(jobs, token)?.is_none();
                                Ok(gone || self.link.entry(self.shown.workers(), &asked_key(token))?.is_none())
                            };
                            if looked.elapsed() > SHOW {
                                // Whoever asked may have gone.
                                looked = Instant::now();
                                if self.link.patiently(stop, ended)? {
                                    over.store(true, Ordering::SeqCst);
                                    continue;
                                }
                            }
                            let fetch = || match self.link.fetch(&consumer, 1, LOOK) {
                                // The queue goes with its job.
                                Err(_) if ended().is_ok_and(|ended| ended) => Ok(Vec::new()),
                                fetched => fetched,
                            };
                            let Some(message) = self.link.patiently(stop, fetch)?.pop() else {
                                // Whoever asked may have ended it.
                                over.fetch_or(self.link.patiently(stop, ended)?, Ordering::SeqCst);
                                if self.link.messages_in(&names.todo).is_none_or(|left| left == 0) {
                                    break;
                                }
                                continue;
                            };
                            self.group(&message, job, &equipped, &crew, &warmed, begun, lease, &names)?;
                        }
                        Ok::<(), RunError>(())
                    })();
                    if let Err(error) = worked
                        && self.link.entry(jobs, token).is_ok_and(|job| job.is_some())
                    {
                        // A queue that went with its job is no failure; anything else ends the work of all.
                        over.store(true, Ordering::SeqCst);
                        failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
                    }
                });
                if let Err(error) = spawned {
                    if number == 0 {
                        let mut failure = failure.lock().unwrap_or_else(PoisonError::into_inner);
                        failure.get_or_insert(no_thread(&error).into());
                    }
                    break;
                }
            }
        });
        self.shown.works_on(None);
        match failure.into_inner().unwrap_or_else(PoisonError::into_inner) {
            Some(error) => Err(error),
            None => {
                // Others may be at the last groups; what they lose comes again.
                if !stop.is_set() {
                    stop.pause(LOOK);
                }
                Ok(())
            }
        }
    }

    /// Fetches the clips of a job and builds its engines; none where the job has gone.
    fn equip(&self, job: &Job, pace: &Arc<Together>) -> Result<Option<Equipped>, RunError> {
        let Some(lines) = self.link.get_object(self.objects, &job.clips)? else { return Ok(None) };
        let folder = tempfile::Builder::new().prefix("fonex-work-").tempdir();
        let folder = folder.map_err(|error| Problem::io("make a folder in", &std::env::temp_dir(), &error))?;
        let path = folder.path().to_owned();
        let (mut usable, mut sounds, mut labels) = (Vec::new(), HashMap::new(), HashMap::new());
        for line in String::from_utf8_lossy(&lines).lines() {
            let (clip, sound): (Clip, Option<String>) = clip_of(line).ok_or_else(|| {
                Problem::new("the clips of the job cannot be read", Place::default())
                    .remedy("let whoever runs the plan put it up again with this version of Fonex")
            })?;
            let at = match sound {
                Some(name) if is_audio_name(&name) => {
                    let place = path.join(&name);
                    sounds.insert(clip.id.clone(), (name, place.clone()));
                    Sound::OnDisk(place, clip.side)
                }
                _ => Sound::Absent,
            };
            labels.insert(clip.id.clone(), clip.clone());
            usable.push(Heardable { clip, sound: at });
        }
        let files = AudioFiles::in_folder(&path);
        let shared: Arc<dyn SharedPace> = Arc::<Together>::clone(pace);
        let engines = engines(self.bench, self.plan, &path, &Arc::new(labels), Some(shared))?;
        let versions = engines.iter().filter_map(|(name, engine)| Some((name.clone(), engine.version()?))).collect();
        let material = Material { usable, left_out: Vec::new() };
        Ok(Some(Equipped { _folder: folder, material, engines, files, sounds, versions }))
    }

    /// Makes one group, and lets go of it when what it gave is published.
    #[expect(clippy::too_many_arguments, reason = "what the groups of a job share")]
    fn group(
        &self,
        message: &Message,
        job: &Job,
        equipped: &Equipped,
        crew: &Crew<'_>,
        warmed: &Mutex<HashMap<usize, usize>>,
        begun: Instant,
        lease: Duration,
        names: &Names,
    ) -> Result<(), RunError> {
        let Ok(group) = serde_json::from_slice::<GroupMessage>(&message.payload) else {
            self.link.tell(message, AckKind::Term);
            return Ok(());
        };
        let known = |key: &TrialKey| key.variant < self.plan.variants.len() && crew.has_clip(&key.clip_id);
        let delivered = message.info().map_or(1, |info| info.delivered);
        let mut trials: Vec<TrialRecord> = Vec::new();
        let mut not_begun = None;
        if delivered > job.most_deliveries || !group.keys.iter().all(known) {
            let why = format!("given up after {} deliveries: each worker that took it vanished", delivered - 1);
            let given_up = |key: &TrialKey| TrialRecord::failed(key.clone(), Outcome::Broken, why.clone());
            trials.extend(group.keys.iter().map(given_up));
            self.shown.given_up.fetch_add(1, Ordering::SeqCst);
        } else {
            let ended = AtomicBool::new(false);
            let made = thread::scope(|scope| {
                let renewing = thread::Builder::new().name("fonex-lease".to_owned()).spawn_scoped(scope, || {
                    // The lease is renewed as long as the group is being made.
                    let mut last = Instant::now();
                    while !ended.load(Ordering::SeqCst) {
                        thread::park_timeout(lease / 3);
                        if last.elapsed() >= lease / 3 {
                            self.link.tell(message, AckKind::Progress);
                            last = Instant::now();
                        }
                    }
                });
                let renewing = renewing.map_err(|error| no_thread(&error))?;
                let _over = WhenOver::new(|| {
                    ended.store(true, Ordering::SeqCst);
                    renewing.thread().unpark();
                });
                self.make(&group, equipped, crew, warmed, begun)
            });
            let Some(made) = made? else {
                // Not made, since this worker is being stopped: somebody else takes it. It is put up anew, so that it does not count as one
                // over which a worker vanished.
                let id = checksum::of_bytes(
                    format!(
                        "{} {delivered} {:?}",
                        self.options.name,
                        message.info().map(|info| info.stream_sequence)
                    )
                    .as_bytes(),
                );
                match self.link.publish(&names.todo, vec![(id, message.payload.to_vec())]) {
                    Ok(()) => drop(self.link.done(message)),
                    Err(_) => self.link.tell(message, AckKind::Nak(None)),
                }
                return Ok(());
            };
            trials = made;
            let reasons = crew.not_begun();
            let all_made = group.keys.iter().all(|key| trials.iter().any(|trial| trial.key == *key));
            not_begun =
                (!all_made).then(|| reasons.first().cloned().unwrap_or_else(|| "it was not begun".to_owned()));
        }
        self.publish(&group.keys, trials, not_begun, equipped, names)?;
        // What is not heard of comes again, and its result is known.
        drop(self.link.done(message));
        Ok(())
    }

    /// The trials of a group, warm-up before them where this worker is new to a variant; none where it was stopped.
    fn make(
        &self,
        group: &GroupMessage,
        equipped: &Equipped,
        crew: &Crew<'_>,
        warmed: &Mutex<HashMap<usize, usize>>,
        begun: Instant,
    ) -> Result<Option<Vec<TrialRecord>>, RunError> {
        for key in &group.keys {
            if let Some((name, place)) = equipped.sounds.get(&key.clip_id).filter(|(_, place)| !place.exists()) {
                self.fetch(name, place)?;
            }
        }
        if let Some(name) =
            group.spoken.as_ref().and_then(|before| before.audio_file.as_ref()).filter(|name| is_audio_name(name))
        {
            let place = equipped.files.path(name);
            if !place.exists() {
                self.fetch(name, &place)?;
            }
        }
        let mut trials = Vec::new();
        if self.plan.warm_up > 0 {
            let first = &group.keys[0];
            let mut cold = warmed.lock().unwrap_or_else(PoisonError::into_inner);
            let own = cold.entry(first.variant).or_default();
            let warms = *own < self.at_once().max(self.plan.warm_up as usize);
            *own += usize::from(warms);
            drop(cold);
            if warms {
                let warm: Vec<TrialKey> =
                    group.keys.iter().map(|key| TrialKey { warm_up: true, ..key.clone() }).collect();
                crew.run_group(
                    &warm,
                    group.spoken.clone().map(Spoken::from),
                    &equipped.files,
                    begun,
                    &mut |record| {
                        trials.push(record);
                        true
                    },
                );
            }
        }
        crew.run_group(&group.keys, group.spoken.clone().map(Spoken::from), &equipped.files, begun, &mut |record| {
            trials.push(record);
            true
        });
        if let Some(fault) = crew.fault() {
            return Err(fault.into());
        }
        let stopped = trials.iter().any(|trial| trial.outcome == Outcome::Stopped) || self.interrupt.flag().is_set();
        let made = group
            .keys
            .iter()
            .all(|key| trials.iter().any(|trial| trial.key == *key && trial.outcome != Outcome::Stopped));
        Ok((made || !stopped).then_some(trials))
    }

    fn fetch(&self, name: &str, place: &Path) -> Result<(), Problem> {
        let found = || {
            self.link.get_object(self.objects, name)?.ok_or_else(|| {
                let what = format!("the sound {name} of a clip is not in the object store, or not whole");
                Problem::new(what, Place::default()).remedy("let whoever runs the plan put it up again")
            })
        };
        let bytes = self.link.patiently(self.interrupt.flag(), found)?;
        let aside = place.with_extension(format!("{:?}.part", thread::current().id()));
        if let Some(folder) = place.parent() {
            std::fs::create_dir_all(folder).map_err(|error| Problem::io("make", folder, &error))?;
        }
        std::fs::write(&aside, bytes)
            .and_then(|()| std::fs::rename(&aside, place))
            .map_err(|error| Problem::io("write", place, &error))
    }

    fn publish(
        &self,
        keys: &[TrialKey],
        mut trials: Vec<TrialRecord>,
        not_begun: Option<String>,
        equipped: &Equipped,
        names: &Names,
    ) -> Result<(), RunError> {
        for trial in &mut trials {
            trial.made_by = Some(maker(&self.options.name, &self.options.class));
            if let Some(name) = &trial.audio_file {
                let place = equipped.files.path(name);
                let bytes = std::fs::read(&place).map_err(|error| Problem::io("read", &place, &error))?;
                self.link.patiently(self.interrupt.flag(), || self.link.put_object(self.objects, name, &bytes))?;
            }
        }
        let timed = trials.iter().filter(|trial| !trial.key.warm_up);
        let failed = timed.clone().filter(|trial| !trial.outcome.is_answer()).count() as u64;
        self.shown.trials.fetch_add(timed.count() as u64, Ordering::SeqCst);
        self.shown.failed.fetch_add(failed, Ordering::SeqCst);
        let result = ResultMessage { keys: keys.to_vec(), trials, not_begun, versions: equipped.versions.clone() };
        let mut body =
            serde_json::to_vec(&result).map_err(|error| Problem::new(error.to_string(), Place::default()))?;
        let id = checksum::of_bytes(&body);
        if body.len() > self.link.room() {
            let name = format!("{id}.result");
            self.link.patiently(self.interrupt.flag(), || self.link.put_object(self.objects, &name, &body))?;
            body = format!("object {name}").into_bytes();
        }
        let publish = || self.link.publish(&names.done, vec![(id.clone(), body.clone())]);
        Ok(self.link.patiently(self.interrupt.flag(), publish)?)
    }
}
