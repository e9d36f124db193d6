//! `fonex standin listen`: ratings by stand-in listeners, to try out a panel and to show one.

use std::fs;
use std::path::PathBuf;

use clap::Args;
use fonex_analysis::panel::{Answer, PanelKey, Ratings, SoundRole, VoiceRole};
use fonex_core::panel::PanelKind;
use fonex_formats::{Place, Problem};
use fonex_standin::{Audience, HeardSound};

use super::{read_key, write};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex standin listen panel.key.json --likes osier/Ilka=4,osier/Sorrel=2 -o ratings"
)]
pub struct StandinListen {
    /// The key of the panel
    #[arg(value_name = "KEY")]
    pub key: PathBuf,
    /// Opinion of a voice, from 1 to 5; 3 of those not named, 5 of a reference and 1.5 of an anchor
    #[arg(long, value_name = "VOICE=OPINION,...", value_delimiter = ',')]
    pub likes: Vec<String>,
    /// Number of listeners; by default as many as the panel has
    #[arg(long, value_name = "N")]
    pub listeners: Option<u32>,
    /// How many of them do not listen
    #[arg(long, default_value_t = 0, value_name = "N")]
    pub careless: u32,
    /// Random seed
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Folder for the ratings files
    #[arg(short, long, value_name = "DIR", default_value = "ratings")]
    pub output: PathBuf,
}

pub fn listen(options: &StandinListen) -> Result<Code, Failure> {
    let key = read_key(&options.key)?;
    let audience = Audience { kind: key.kind, opinions: opinions(&key, &options.likes)?, seed: options.seed };
    let listeners = options.listeners.unwrap_or(key.sheets.len() as u32).min(key.sheets.len() as u32);
    fs::create_dir_all(&options.output).map_err(|error| Problem::io("make", &options.output, &error))?;
    for listener in 1..=listeners {
        // The last ones are those who do not listen.
        let careless = listener + options.careless > listeners;
        let ratings = ratings(&key, &audience, listener, careless);
        let path = options.output.join(format!("ratings-{}-{listener}.json", key.panel));
        write(&path, &serde_json::to_string(&ratings).expect("ratings are plain data"))?;
    }
    output::note(&format!(
        "Wrote the ratings of {} into {}.",
        plural(u64::from(listeners), "stand-in listener"),
        options.output.display()
    ));
    Ok(Code::Done)
}

fn ratings(key: &PanelKey, audience: &Audience, listener: u32, careless: bool) -> Ratings {
    let heard = |number: &u32| {
        let sound = key.sounds[*number as usize];
        HeardSound {
            voice: sound.voice,
            text: sound.text,
            drowned: sound.role == SoundRole::Check,
            open: sound.role == SoundRole::Open,
        }
    };
    let answers = (0..).zip(&key.sheets[listener as usize - 1]).map(|(page, sounds)| Answer {
        page,
        sounds: sounds.clone(),
        values: audience.answer(listener, careless, page, &sounds.iter().map(heard).collect::<Vec<_>>()),
        plays: vec![1; sounds.len()],
        took_ms: 5_000,
    });
    let mut ratings = Ratings {
        panel: key.panel.clone(),
        kind: key.kind,
        listener,
        session: format!("stand-in-{}-{listener}", audience.seed),
        began: key.made_at.clone(),
        complete: true,
        answers: answers.collect(),
        seal: String::new(),
    };
    ratings.seal = ratings.sealed(&key.seal);
    ratings
}

/// The opinion of each voice by its place.
fn opinions(key: &PanelKey, likes: &[String]) -> Result<Vec<f64>, Problem> {
    let mut opinions: Vec<f64> = key
        .voices
        .iter()
        .map(|voice| match voice.role {
            VoiceRole::Voice => 3.0,
            VoiceRole::Reference => {
                if key.kind == PanelKind::Anchored {
                    5.5
                } else {
                    5.0
                }
            }
            VoiceRole::Anchor => 1.5,
        })
        .collect();
    for typed in likes {
        let place = || Place::default().field("--likes");
        let split = typed.rsplit_once('=').and_then(|(name, value)| Some((name, value.parse::<f64>().ok()?)));
        let Some((name, opinion)) = split.filter(|(_, opinion)| (1.0..=5.0).contains(opinion)) else {
            return Err(
                Problem::new(format!("\"{typed}\" is no opinion"), place()).expected("VOICE=OPINION, from 1 to 5")
            );
        };
        let Some(at) = key.voices.iter().position(|voice| voice.name == name) else {
            let names: Vec<String> = key.voices.iter().map(|voice| voice.name.clone()).collect();
            return Err(fonex_run::unknown(format!("the panel has no voice \"{name}\""), name, &names, place()));
        };
        opinions[at] = opinion;
    }
    Ok(opinions)
}
