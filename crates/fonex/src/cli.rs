//! The command line: every command with its options and an example that runs on the demo data.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// Benchmarks speech recognition and synthesis engines against a labelled corpus, with honest uncertainty.
#[derive(Debug, Parser)]
#[command(name = "fonex", version, propagate_version = false, max_term_width = 100)]
#[command(after_help = "Start with: fonex demo")]
pub struct Cli {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the full example on shipped data, from corpus to report
    Demo(Demo),
    /// Write a commented bench file to start from
    Init(Init),
    /// Give an engine one clip or one sentence, now
    Try(Try),
    /// List, probe and ask the engines of the bench file
    #[command(after_help = "Example, in the folder the demo made: fonex engine list")]
    Engine {
        #[command(subcommand)]
        command: EngineCommand,
    },
    /// Execute a plan of the bench file; resumes where a killed run stopped
    Run(Run),
    /// Run the same clips at several windows or pause rules, and chart error rate against delay
    Windows(Windows),
    /// Put load on the engines of a plan and find where they give way
    Load(Load),
    /// Hear, reply and speak as one turn, and say where its time goes
    Turns(Turns),
    /// Score results that already exist against their labels
    Score(Score),
    /// Write captions from what was heard, and check captions that exist
    #[command(after_help = "Example, in the folder the demo made: fonex captions write last --clip radio-006")]
    Captions {
        #[command(subcommand)]
        command: CaptionsCommand,
    },
    /// Measure recordings, and picture one with its labels
    Audio(AudioOptions),
    /// Check, describe, pick and vary the clips before anyone measures
    #[command(after_help = "Example, in the folder the demo made: fonex corpus check corpus.jsonl")]
    Corpus {
        #[command(subcommand)]
        command: CorpusCommand,
    },
    /// List the stored runs
    Runs(Runs),
    /// Show one run in depth
    Show(Show),
    /// Compare variants or runs clip by clip: better, worse, or cannot tell
    Compare(Compare),
    /// Chart a measure over many runs and flag regressions
    Trend(Trend),
    /// Write a self-contained HTML report
    Report(Report),
    /// The simulated engines that ship with Fonex
    #[command(
        after_help = "Example, in the folder the demo made: fonex standin serve --port 8790 --key-from FONEX_DEMO_KEY"
    )]
    Standin {
        #[command(subcommand)]
        command: StandinCommand,
    },
    /// Print a completion script for a shell
    Completions(Completions),
}

#[derive(Debug, Subcommand)]
pub enum EngineCommand {
    /// List the engines, where they lead and which keys they need
    List(EngineListOptions),
    /// Make one cheap call and say in plain words what works
    Probe(EngineProbeOptions),
    /// List the voices of a synthesiser
    Voices(EngineVoicesOptions),
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex engine list")]
pub struct EngineListOptions {
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex engine probe marl")]
pub struct EngineProbeOptions {
    /// Engine of the bench file
    pub engine: String,
    /// Change a value of the bench file for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex engine voices osier --where 'gender = female'")]
pub struct EngineVoicesOptions {
    /// Engine of the bench file
    pub engine: String,
    /// Only voices for which this holds, over id, name, lang, gender, style, kind, region and price
    #[arg(long = "where", value_name = "CONDITION")]
    pub only: Option<String>,
    /// Change a value of the bench file for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Subcommand)]
pub enum StandinCommand {
    /// Serve the stand-ins of the bench file over HTTP and WebSocket on loopback
    Serve(StandinServe),
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex standin serve --port 8790 --key-from FONEX_DEMO_KEY"
)]
pub struct StandinServe {
    /// Port on loopback; 0 takes a free one
    #[arg(long, default_value_t = 8790)]
    pub port: u16,
    /// Ask for the key in this environment variable, in an Authorization: Bearer header
    #[arg(long, value_name = "VARIABLE")]
    pub key_from: Option<String>,
    /// Requests after which the quota is used up
    #[arg(long, value_name = "N")]
    pub quota: Option<u64>,
    /// Share of requests that meet a fault, chosen by the seed
    #[arg(long, default_value_t = 0.0, value_name = "SHARE")]
    pub fault_share: f64,
    /// Milliseconds before each connection is served
    #[arg(long, default_value_t = 0.0, value_name = "MS")]
    pub slow_accept_ms: f64,
    /// List the faults that fault=NAME in an address asks for, and end
    #[arg(long)]
    pub faults: bool,
    /// Change a value of the bench file
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// Where the bench file is.
#[derive(Debug, Clone, Args)]
pub struct BenchArg {
    /// Bench file; its runs are kept in .fonex beside it
    #[arg(short, long, value_name = "FILE", default_value = "fonex.toml")]
    pub bench: PathBuf,
}

/// In which form results are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For reading in a terminal
    Table,
    /// For programs; nothing else goes to standard output
    Json,
    /// For spreadsheets
    Csv,
    /// For pull requests and wikis
    Markdown,
}

#[derive(Debug, Clone, Args)]
pub struct FormatArg {
    /// Form of the output
    #[arg(long, value_enum, default_value = "table")]
    pub format: Format,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex demo my-demo")]
pub struct Demo {
    /// Folder to make
    #[arg(value_name = "DIR", default_value = "fonex-demo")]
    pub folder: PathBuf,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex init my-bench")]
pub struct Init {
    /// Folder to write fonex.toml into
    #[arg(value_name = "DIR", default_value = ".")]
    pub folder: PathBuf,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex try tern radio-006               a clip of the corpus, scored against its label
  fonex try tern audio/radio-006.flac    an audio file
  fonex try osier \"Doors are closing.\"   a sentence, spoken into try.wav")]
pub struct Try {
    /// Engine of the bench file
    pub engine: String,
    /// Clip id, audio file, - for audio on standard input, or for a synthesiser the text to speak
    pub input: String,
    /// Deliver the audio as from a microphone, and show words as they come
    #[arg(long)]
    pub live: bool,
    /// Seconds of audio a second, live
    #[arg(long, default_value_t = 1.0, value_name = "TIMES", value_parser = seconds_above_zero, requires = "live")]
    pub speed: f64,
    /// Milliseconds of audio in a frame, live
    #[arg(long, default_value_t = 100.0, value_name = "MS", value_parser = seconds_above_zero)]
    pub frame_ms: f64,
    /// Send the first frame at once, and not when the engine is ready, live
    #[arg(long)]
    pub at_once: bool,
    /// Give up when no word came within so many seconds, live
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub wait: Option<f64>,
    /// Stop after so many seconds of audio, live
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub longest: Option<f64>,
    /// Rate of raw samples on standard input; the engine's own by default
    #[arg(long, value_name = "HZ")]
    pub raw_hz: Option<u32>,
    /// Model; the engine's first by default
    #[arg(long)]
    pub model: Option<String>,
    /// Voice; the engine's first by default
    #[arg(long)]
    pub voice: Option<String>,
    /// Language, as a BCP 47 tag
    #[arg(long)]
    pub lang: Option<String>,
    /// What is said in the audio, to score against
    #[arg(long, value_name = "TEXT")]
    pub label: Option<String>,
    /// Where to write spoken audio
    #[arg(short, long, value_name = "FILE", default_value = "try.wav")]
    pub output: PathBuf,
    /// Change a value of the bench file for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex run radio --label my-first")]
pub struct Run {
    /// Plan of the bench file; may be left out where there is only one
    pub plan: Option<String>,
    /// A name for this run, such as a week or a build
    #[arg(long)]
    pub label: Option<String>,
    /// Change a value of the bench file for this run, such as plan.hear.repeats=3
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    /// Send nothing; say what would be sent and what it would cost
    #[arg(long)]
    pub dry: bool,
    /// Start a new run even where one was interrupted
    #[arg(long)]
    pub anew: bool,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex windows windows --bench services.toml -o windows.svg"
)]
pub struct Windows {
    #[command(flatten)]
    pub run: Run,
    /// Take this stored run instead of executing the plan
    #[arg(long, value_name = "RUN")]
    pub of: Option<String>,
    /// Write the chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex load load --bench services.toml --rate 5,20,80 --seconds 2 -o load.svg"
)]
pub struct Load {
    /// Plan of the bench file; may be left out where there is only one
    pub plan: Option<String>,
    /// Requests a second of each step, which begin whether earlier ones were answered or not
    #[arg(long, value_name = "N,N", value_delimiter = ',', value_parser = seconds_above_zero)]
    pub rate: Vec<f64>,
    /// Requests under way at any time in each step
    #[arg(long, value_name = "N,N", value_delimiter = ',', value_parser = clap::value_parser!(u32).range(1..=2000))]
    pub at_once: Vec<u32>,
    /// Seconds of each step
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub seconds: Option<f64>,
    /// Take this stored study, a number or last, instead of asking anybody
    #[arg(long, value_name = "STUDY")]
    pub of: Option<String>,
    /// Write the chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Change a value of the bench file for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex turns --bench services.toml --hear tern --reply quill --speak osier --most 5"
)]
pub struct Turns {
    /// Clips to begin a turn with; all that have audio by default
    pub clips: Vec<String>,
    /// The recogniser
    #[arg(
        long,
        value_name = "ENGINE",
        required_unless_present = "of",
        default_value = "",
        hide_default_value = true
    )]
    pub hear: String,
    /// The responder
    #[arg(
        long,
        value_name = "ENGINE",
        required_unless_present = "of",
        default_value = "",
        hide_default_value = true
    )]
    pub reply: String,
    /// The synthesiser
    #[arg(
        long,
        value_name = "ENGINE",
        required_unless_present = "of",
        default_value = "",
        hide_default_value = true
    )]
    pub speak: String,
    /// Run this dialogue of the bench file, turn after turn; may be given several times
    #[arg(long, value_name = "NAME", conflicts_with = "clips")]
    pub dialogue: Vec<String>,
    /// Have the next clip interrupt each reply after so many seconds of it
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub interrupt_after: Option<f64>,
    /// Take this stored study, a number or last, instead of asking anybody
    #[arg(long, value_name = "STUDY")]
    pub of: Option<String>,
    /// Deliver the audio live, and count from the end of speech
    #[arg(long)]
    pub live: bool,
    /// Clips at most
    #[arg(long, default_value_t = 100, value_name = "N")]
    pub most: usize,
    /// Write a bar for each turn to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Change a value of the bench file for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex score corpus.jsonl heard.jsonl")]
pub struct Score {
    /// Labels: JSON Lines, CSV, TSV, or a folder of text or caption files
    pub corpus: PathBuf,
    /// Results, in any of the same forms; several are set side by side
    #[arg(required = true)]
    pub heard: Vec<PathBuf>,
    /// Text profile: neutral, verbatim, en, de, fr, es, or a file of your own that ends in .toml
    #[arg(long, default_value = "neutral")]
    pub profile: String,
    /// Show the texts of this clip before and after each step of the profile
    #[arg(long, value_name = "ID")]
    pub explain: Option<String>,
    /// Seed of the bootstrap
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// How many of the worst clips to show word by word
    #[arg(long, default_value_t = 3, value_name = "N")]
    pub worst: usize,
    /// Write one line of JSON a clip with its counts and its words, for other tools
    #[arg(long, value_name = "FILE")]
    pub clips: Option<PathBuf>,
    /// Weigh words by this TOML file: pylon = 5, and every word that is not listed 1
    #[arg(long, value_name = "FILE")]
    pub weights: Option<PathBuf>,
    /// Also slice by two at once, such as channel*speaker; may be given several times
    #[arg(long, value_name = "ONE*OTHER", value_parser = two_crossed)]
    pub cross: Vec<(String, String)>,
    /// Also slice by the signal-to-noise ratio, measured in each clip's audio
    #[arg(long)]
    pub snr: bool,
    /// End with exit code 3 when results are missing or belong to no clip
    #[arg(long)]
    pub strict: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

fn two_crossed(typed: &str) -> Result<(String, String), String> {
    match typed.split_once('*').map(|(one, other)| (one.trim(), other.trim())) {
        Some((one, other)) if !one.is_empty() && !other.is_empty() => Ok((one.to_owned(), other.to_owned())),
        _ => Err("write two names of tags, speaker, lang or length with a * between them".to_owned()),
    }
}

#[derive(Debug, Subcommand)]
pub enum CaptionsCommand {
    /// Cut words with times into captions: SubRip, WebVTT or plain lines
    Write(CaptionsWrite),
    /// Whether captions can be read, and are right where there is a label
    Check(CaptionsCheck),
}

/// What a caption may be.
#[derive(Debug, Args)]
pub struct CaptionRules {
    /// Characters of a line
    #[arg(long, default_value_t = 42, value_name = "N", value_parser = clap::value_parser!(u16).range(5..=500))]
    pub line: u16,
    /// Lines of a caption
    #[arg(long, default_value_t = 2, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=10))]
    pub lines: u16,
    /// Characters a second that a reader follows
    #[arg(long, default_value_t = 17.0, value_name = "N", value_parser = seconds_above_zero)]
    pub speed: f64,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex captions write last --clip radio-006
  fonex captions write last --variant tern --correct-by corpus.jsonl --to srt -o captions")]
pub struct CaptionsWrite {
    /// A results file or folder, or a stored run
    pub source: String,
    /// Variant of the run; its first recogniser by default
    #[arg(long)]
    pub variant: Option<String>,
    /// Only this clip
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Form; by the ending of the file, else vtt
    #[arg(long)]
    pub to: Option<CaptionTo>,
    /// A file for one clip, a folder for several; standard output by default
    #[arg(short, long, value_name = "PATH")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub rules: CaptionRules,
    /// Move all times by so many milliseconds
    #[arg(long, default_value_t = 0.0, value_name = "MS", allow_hyphen_values = true)]
    pub shift_ms: f64,
    /// Multiply all times by this
    #[arg(long, default_value_t = 1.0, value_name = "TIMES", value_parser = seconds_above_zero)]
    pub stretch: f64,
    /// Take off the offset and the drift that these labels show
    #[arg(long, value_name = "CORPUS", conflicts_with_all = ["shift_ms", "stretch"])]
    pub correct_by: Option<PathBuf>,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// Forms of captions.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum CaptionTo {
    Srt,
    Vtt,
    Text,
}

impl From<CaptionTo> for fonex_formats::CaptionForm {
    fn from(to: CaptionTo) -> Self {
        match to {
            CaptionTo::Srt => Self::Srt,
            CaptionTo::Vtt => Self::Vtt,
            CaptionTo::Text => Self::Text,
        }
    }
}

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex captions check talk.srt --against corpus.jsonl")]
pub struct CaptionsCheck {
    /// Caption files, .srt or .vtt
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Score text and times against the clip of the same name in this corpus
    #[arg(long, value_name = "CORPUS")]
    pub against: Option<PathBuf>,
    /// The clip, where the file has another name
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Text profile: neutral, verbatim, en, de, fr, es, or a file of your own that ends in .toml
    #[arg(long, default_value = "neutral")]
    pub profile: String,
    #[command(flatten)]
    pub rules: CaptionRules,
    /// End with exit code 1 when there is a fault
    #[arg(long)]
    pub strict: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex audio corpus.jsonl
  fonex audio corpus.jsonl --clip radio-006 -o radio-006.png
  fonex audio audio/call-001.flac --cut pieces")]
pub struct AudioOptions {
    /// Recordings, or a corpus for all its clips
    #[arg(required = true, value_name = "FILE")]
    pub inputs: Vec<PathBuf>,
    /// Only this clip of the corpus
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Captions to draw under a recording, .srt or .vtt
    #[arg(long, value_name = "FILE")]
    pub captions: Option<PathBuf>,
    /// Cut the recording at its pauses into this folder
    #[arg(long, value_name = "DIR")]
    pub cut: Option<PathBuf>,
    /// The shortest silence that counts as a pause, in seconds
    #[arg(long, default_value_t = 0.3, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub least_pause: f64,
    /// The longest piece, in seconds
    #[arg(long, default_value_t = 30.0, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub longest_piece: f64,
    /// Write a picture to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub format: FormatArg,
}

fn seconds_above_zero(typed: &str) -> Result<f64, String> {
    match typed.parse::<f64>() {
        Ok(seconds) if seconds > 0.0 && seconds.is_finite() => Ok(seconds),
        _ => Err("expected a number of seconds above 0".to_owned()),
    }
}

#[derive(Debug, Subcommand)]
pub enum CorpusCommand {
    /// Make a corpus from a folder, a table, or a recording with captions
    Import(CorpusImport),
    /// Find everything that would spoil a run
    Check(CorpusCheckOptions),
    /// Say what a corpus holds, as tables and as a picture
    Describe(CorpusDescribe),
    /// Choose clips by a condition, draw samples, split by speaker
    Pick(CorpusPick),
    /// Make derived corpora: noise, rooms, telephones, lost packets, speed
    Vary(CorpusVary),
}

#[derive(Debug, Args)]
#[command(
    after_help = "A folder holds audio with .txt, .srt, .vtt or .json of the same name. A table has a header; --map names its
columns. A recording with captions is kept whole with its segments, or cut at their bounds.
Examples:
  fonex corpus import recordings -o my-corpus --lang en
  fonex corpus import list.csv --map text=sentence,audio=path,tags.accent=region -o my-corpus
  fonex corpus import talk.mp3 --captions talk.vtt --cut -o my-corpus"
)]
pub struct CorpusImport {
    /// Folder, .csv or .tsv table, or recording
    pub source: PathBuf,
    /// Captions of the recording, .srt or .vtt
    #[arg(long, value_name = "FILE")]
    pub captions: Option<PathBuf>,
    /// Cut the recording into a clip for each caption
    #[arg(long, requires = "captions")]
    pub cut: bool,
    /// Which column of a table holds which field: id, text, audio, lang, speaker, terms, tags.NAME
    #[arg(long, value_delimiter = ',', value_name = "FIELD=COLUMN")]
    pub map: Vec<String>,
    /// Language of clips that name none, as a BCP 47 tag
    #[arg(long)]
    pub lang: Option<String>,
    /// Speaker of clips that name none
    #[arg(long)]
    pub speaker: Option<String>,
    /// A tag for every clip; may be repeated
    #[arg(long = "tag", value_name = "TAG=VALUE")]
    pub tags: Vec<String>,
    /// Folder to write corpus.jsonl into; audio outside of it is copied
    #[arg(short, long, value_name = "DIR")]
    pub output: PathBuf,
}

#[derive(Debug, Args)]
#[command(after_help = "Ends with exit code 3 when there is an error, or with --warnings a warning.
Example, in the folder the demo made: fonex corpus check corpus.jsonl")]
pub struct CorpusCheckOptions {
    /// Corpus in any form that is read
    pub corpus: PathBuf,
    /// Bench file whose text profile and sample rates to check against; fonex.toml where it is there
    #[arg(short, long, value_name = "FILE")]
    pub bench: Option<PathBuf>,
    /// Let warnings count in the exit code
    #[arg(long)]
    pub warnings: bool,
    /// How many complaints of each kind to show
    #[arg(long, default_value_t = 5, value_name = "N")]
    pub most: usize,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made:
  fonex corpus describe corpus.jsonl --cross channel,lang -o corpus.png")]
pub struct CorpusDescribe {
    /// Corpus in any form that is read
    pub corpus: PathBuf,
    /// Count clips by two fields at once
    #[arg(long, value_delimiter = ',', value_name = "A,B")]
    pub cross: Vec<String>,
    /// Write the picture to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(
    after_help = "A condition compares fields (id, text, lang, speaker, words, terms, duration, snr, level, rate,
words_per_s) and tags: = != < <= > >= ~ (holds the text), in (A, B), has FIELD, not, and, or, brackets.
Examples, in the folder the demo made:
  fonex corpus pick corpus.jsonl --where 'channel = radio and snr < 15' -o hard.jsonl
  fonex corpus pick corpus.jsonl --sample 12 --by channel,lang -o small.jsonl
  fonex corpus pick corpus.jsonl --split 80,20 -o part.jsonl"
)]
pub struct CorpusPick {
    /// Corpus in any form that is read
    pub corpus: PathBuf,
    /// Only clips for which this holds
    #[arg(long, value_name = "CONDITION")]
    pub r#where: Option<String>,
    /// Draw so many of them
    #[arg(long, value_name = "N")]
    pub sample: Option<usize>,
    /// Keep the shares of these fields in the sample
    #[arg(long, value_delimiter = ',', value_name = "FIELD,FIELD", requires = "sample")]
    pub by: Vec<String>,
    /// Split into parts of these shares, no speaker in two of them
    #[arg(long, value_delimiter = ',', value_name = "SHARE,SHARE", requires = "output")]
    pub split: Vec<f64>,
    /// Seed of samples and splits
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Corpus file to write, beside the one picked from; standard output by default
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(after_help = "A recipe is steps parted by spaces, done in order: noise=white|pink|wind|babble:SNR_DB
room=RT60_S[:DIRECT_DB] band=LOW_HZ:HIGH_HZ telephone=a|mu loss=PERCENT[:repeat|none] gain=DB
speed=FACTOR tempo=FACTOR silence=BEFORE_S:AFTER_S
Example, in the folder the demo made:
  fonex corpus vary corpus.jsonl --recipe noise=babble:5 --recipe 'telephone=a loss=3:repeat' -o harder")]
pub struct CorpusVary {
    /// Corpus in any form that is read
    pub corpus: PathBuf,
    /// What to do to every clip; each recipe gives one variation of it
    #[arg(long = "recipe", required = true, value_name = "STEPS")]
    pub recipes: Vec<String>,
    /// Folder to write the new corpus into
    #[arg(short, long, value_name = "DIR")]
    pub output: PathBuf,
    /// Seed of everything random in it
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex runs")]
pub struct Runs {
    /// List the studies of load and turns instead
    #[arg(long)]
    pub studies: bool,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex show last
  fonex show 1 --variant marl/river --worst 10
  fonex show 1 --clip radio-006")]
pub struct Show {
    /// Run: its number, its label, or last
    #[arg(default_value = "last")]
    pub run: String,
    /// Only this variant
    #[arg(long)]
    pub variant: Option<String>,
    /// Only this clip, word by word
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// How many of the worst clips to show word by word
    #[arg(long, default_value_t = 3, value_name = "N")]
    pub worst: usize,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "A run is a number, a label, or last; RUN:VARIANT names one of its variants.
Examples, in the folder the demo made:
  fonex compare 1                              its first variant against the others
  fonex compare 1:marl/river 1:tern            two variants
  fonex compare w45 w46                        the same variants in two runs")]
pub struct Compare {
    /// What to compare; everything after the first is held against the first
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// Also compare within the slices of this tag, or speaker or lang; may be repeated
    #[arg(long, value_name = "TAG")]
    pub by: Vec<String>,
    /// Seed of the resampling
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex trend --plan weekly
  fonex trend --plan weekly --slice channel=radio -o trend.png")]
pub struct Trend {
    /// Only runs of this plan
    #[arg(long)]
    pub plan: Option<String>,
    /// Only this variant
    #[arg(long)]
    pub variant: Option<String>,
    /// Only clips of this slice, such as channel=radio
    #[arg(long, value_name = "TAG=VALUE")]
    pub slice: Option<String>,
    /// Write the chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Seed of the resampling
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex report 1 -o report.html")]
pub struct Report {
    /// Runs: numbers, labels, or last
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// File to write
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// How many of the worst clips to show for each variant
    #[arg(long, default_value_t = 6, value_name = "N")]
    pub worst: usize,
    /// Add a stored study of load: its number, or the last one
    #[arg(long, value_name = "STUDY", num_args = 0..=1, default_missing_value = "last")]
    pub load: Option<String>,
    /// Add a stored study of turns: its number, or the last one
    #[arg(long, value_name = "STUDY", num_args = 0..=1, default_missing_value = "last")]
    pub turns: Option<String>,
    #[command(flatten)]
    pub bench: BenchArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex completions bash > fonex.bash")]
pub struct Completions {
    /// The shell
    pub shell: clap_complete::Shell,
}
