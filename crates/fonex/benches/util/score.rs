//! Labels and results of random words, as two JSON Lines files, and the memory that scoring them takes.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::process::Command;

use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// How much is written, and how wrong it is.
pub struct Texts {
    pub clips: usize,
    pub words: usize,
    /// Per cent of the words.
    pub wrong: u32,
    /// Labels as recognisers write, small letters alone, without a speaker, a language and tags.
    pub bare: bool,
}

impl Texts {
    pub fn write(&self, corpus: &Path, heard: &Path) {
        let mut random = Pcg64Mcg::seed_from_u64(4);
        let vocabulary: Vec<String> = (0..8_000)
            .map(|_| (0..random.random_range(2..10)).map(|_| char::from(random.random_range(b'a'..=b'z'))).collect())
            .collect();
        let word = |random: &mut Pcg64Mcg| &*vocabulary[(8_000_f64.powf(random.random::<f64>()) - 1.0) as usize];
        let [mut labels, mut results] = [corpus, heard].map(|path| BufWriter::new(File::create(path).unwrap()));
        for clip in 0..self.clips {
            let said: Vec<&str> = (0..self.words).map(|_| word(&mut random)).collect();
            let mut got = Vec::new();
            for &token in &said {
                if random.random_range(0..100) >= self.wrong {
                    got.push(token);
                    continue;
                }
                // Of twelve wrong words eight are taken for others, two are lost, and behind two another is heard.
                match random.random_range(0..12) {
                    0..8 => got.push(word(&mut random)),
                    8..10 => {}
                    _ => got.extend([token, word(&mut random)]),
                }
            }
            let (mut text, got) = (said.join(" "), got.join(" "));
            writeln!(results, r#"{{"id":"clip-{clip:07}","text":"{got}"}}"#).unwrap();
            if self.bare {
                writeln!(labels, r#"{{"id":"clip-{clip:07}","text":"{text}"}}"#).unwrap();
                continue;
            }
            text[..1].make_ascii_uppercase();
            writeln!(
                labels,
                r#"{{"id":"clip-{clip:07}","text":"{text}.","lang":"en","speaker":"op-{}","tags":{{"channel":"{}"}}}}"#,
                clip % 50,
                ["radio", "desk"][clip % 2]
            )
            .unwrap();
        }
    }
}

/// Runs `fonex score`, looking at it now and then; gives the most memory it had, in MiB.
pub fn peak_mib(corpus: &Path, heard: &Path) -> f64 {
    let output = Command::new("sh")
        .args(["-c", "\"$0\" score \"$1\" \"$2\" --format json >/dev/null & pid=$!; \
               while kill -0 $pid 2>/dev/null; do m=$(grep VmHWM /proc/$pid/status 2>/dev/null) && peak=$m; sleep 0.05; done; \
               wait $pid && echo \"$peak\""])
        .arg(env!("CARGO_BIN_EXE_fonex"))
        .args([corpus, heard])
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let line = String::from_utf8_lossy(&output.stdout).into_owned();
    line.split_whitespace().nth(1).and_then(|n| n.parse::<f64>().ok()).unwrap_or_default() / 1024.0
}
