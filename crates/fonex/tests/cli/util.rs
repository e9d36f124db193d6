//! A folder of its own for each test, and runs of the program that tell all when they fail.

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::thread;
use std::time::Duration;

use serde::de::DeserializeOwned;

/// How long a test waits for what has to come before it calls it lost; nothing waits for it to pass. A shared machine may stand still for a minute.
pub const PATIENCE: Duration = Duration::from_secs(300);

/// Leaves the processor to what is waited for, and comes back soon: nothing is told by how long it takes.
pub fn a_moment() {
    thread::sleep(Duration::from_millis(2));
}

pub struct Folder {
    folder: tempfile::TempDir,
}

pub struct Done {
    pub code: i32,
    pub out: String,
    pub err: String,
    story: String,
}

impl Folder {
    pub fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, content).unwrap();
        path
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path().join(name)).unwrap()
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_fonex"));
        command
            .args(arguments)
            .current_dir(self.path())
            .env_remove("NO_COLOR")
            .env_remove("FONEX_STORE")
            .stdin(Stdio::null());
        command
    }

    pub fn start(&self, arguments: &[&str]) -> Child {
        self.command(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    pub fn start_in(&self, arguments: &[&str], environment: &[(&str, &str)]) -> Child {
        let mut command = self.command(arguments);
        command.envs(environment.iter().copied()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    pub fn fonex(&self, arguments: &[&str]) -> Done {
        let output = self.command(arguments).output().unwrap();
        self.done(arguments, output)
    }

    pub fn fonex_in(&self, arguments: &[&str], environment: &[(&str, &str)]) -> Done {
        let output = self.command(arguments).envs(environment.iter().copied()).output().unwrap();
        self.done(arguments, output)
    }

    pub fn done(&self, arguments: &[&str], output: Output) -> Done {
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("output is UTF-8");
        let code = output.status.code().unwrap_or(-1);
        let (out, err) = (text(output.stdout), text(output.stderr));
        let mut story = format!("\n$ fonex {}\nexit code {code}\n", arguments.join(" "));
        let mut names: Vec<_> = fs::read_dir(self.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
        names.sort();
        write!(story, "folder {names:?}\n--- standard output\n{out}--- standard error\n{err}").unwrap();
        assert!(!err.contains("panicked"), "{story}");
        Done { code, out, err, story }
    }
}

impl Done {
    pub fn expect(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{}", self.story);
        self
    }

    /// Every part stands on standard error.
    pub fn says(self, parts: &[&str]) -> Self {
        for part in parts {
            assert!(self.err.contains(part), "nothing says {part:?}{}", self.story);
        }
        self
    }

    pub fn prints(self, parts: &[&str]) -> Self {
        for part in parts {
            assert!(self.out.contains(part), "nothing prints {part:?}{}", self.story);
        }
        self
    }

    pub fn json<T: DeserializeOwned>(&self) -> T {
        let mut reader = serde_json::Deserializer::from_str(&self.out);
        serde_path_to_error::deserialize(&mut reader).unwrap_or_else(|error| panic!("{error}{}", self.story))
    }
}

/// A corpus of clips that share two seconds of sound, made by the program's own writer.
pub fn corpus(folder: &Folder, clips: &[(&str, &str, &str)]) {
    share_sound(folder, 2.0);
    let lines: String = clips
        .iter()
        .map(|(id, text, channel)| {
            let clip = serde_json::json!({
                "id": id, "audio": "audio/any.wav", "text": text, "lang": "en", "tags": {"channel": channel},
            });
            format!("{clip}\n")
        })
        .collect();
    folder.write("corpus.jsonl", lines);
}

/// Writes the sound that the clips of [`corpus`] share: where hundreds of runs read it for each clip, it had better be brief.
pub fn share_sound(folder: &Folder, seconds: f64) {
    let sample = |i: usize| if i % 8_000 < 6_000 { (i as f32 * 0.07).sin() * 0.3 } else { 0.0 };
    let samples = (0..(seconds * 16_000.0) as usize).map(sample).collect();
    let audio = fonex_core::audio::Audio { rate_hz: 16_000, samples };
    folder.write("audio/any.wav", fonex_formats::audio::encode_wav(&audio).unwrap());
}

/// Whether a real program is there; where real engines are asked for, it has to be.
pub fn program_is_there(name: &str) -> bool {
    let there = Command::new(name).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status();
    let there = there.is_ok_and(|status| status.success());
    assert!(there || std::env::var_os("FONEX_REAL_ENGINES").is_none(), "{name} is not installed");
    there
}
