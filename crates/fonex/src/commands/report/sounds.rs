//! The sounds of a report: embedded in the page, beside it, or left out.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use fonex_core::measures::Unit;
use fonex_engines::percent_encoded;
use fonex_formats::Problem;
use fonex_report::data_uri;
use fonex_report::figures::figure;

use crate::failure::Failure;
use crate::output::{self, plural};

/// Audio embedded in one report, in bytes; further clips are shown without their sound.
const MOST_EMBEDDED: u64 = 12 << 20;
/// The longest file that is read at once.
const LONGEST: u64 = 256 << 20;

/// Where the sounds of a page are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum SoundForm {
    /// In the page, 12 MiB at most, the clips with most mistakes first
    Embedded,
    /// In a folder beside the page
    Linked,
    /// Nowhere
    None,
}

/// Gives sounds their addresses as long as there is room, and remembers what they come to.
pub struct Sounds {
    form: SoundForm,
    /// The folder beside the page, and its name as an address.
    folder: PathBuf,
    name: String,
    /// What each file is called beside the page.
    linked: Vec<(PathBuf, String)>,
    addresses: HashMap<PathBuf, Option<String>>,
    bytes: u64,
    without_room: u64,
    unplayable: u64,
}

impl Sounds {
    /// For a page that is written to `page`.
    pub fn new(form: SoundForm, page: &Path) -> Self {
        let stem = page.file_stem().map_or_else(|| "report".to_owned(), |stem| stem.to_string_lossy().into_owned());
        let name = format!("{stem}-sound");
        Self {
            form,
            folder: page.with_file_name(&name),
            name: percent_encoded(&name),
            linked: Vec::new(),
            addresses: HashMap::new(),
            bytes: 0,
            without_room: 0,
            unplayable: 0,
        }
    }

    /// Whether the page plays files beside it.
    pub fn are_beside(&self) -> bool {
        self.form == SoundForm::Linked && !self.linked.is_empty()
    }

    /// The address of a file's sound: none where it is left out, cannot be read, or is of no kind that browsers play.
    pub fn address(&mut self, path: &Path) -> Option<String> {
        if self.form == SoundForm::None {
            return None;
        }
        if let Some(known) = self.addresses.get(path) {
            return known.clone();
        }
        let address = self.new_address(path);
        self.addresses.insert(path.to_owned(), address.clone());
        address
    }

    fn new_address(&mut self, path: &Path) -> Option<String> {
        let length = fs::metadata(path).ok().filter(fs::Metadata::is_file)?.len();
        let Some((media_type, extension)) = playable(path) else {
            self.unplayable += 1;
            return None;
        };
        match self.form {
            SoundForm::None => None,
            SoundForm::Embedded => {
                if self.bytes + length > MOST_EMBEDDED {
                    self.without_room += 1;
                    return None;
                }
                let bytes = fonex_formats::regular::read(path, LONGEST).ok()?;
                self.bytes += length;
                Some(data_uri(media_type, &bytes))
            }
            SoundForm::Linked => {
                // Numbered: files of one name lie in several folders, and names hold what an address may not.
                let name = format!("{:06}.{extension}", self.linked.len() + 1);
                self.bytes += length;
                let address = format!("{}/{name}", self.name);
                self.linked.push((path.to_owned(), name));
                Some(address)
            }
        }
    }

    /// Says what the sounds come to, and puts those that are linked beside the page.
    ///
    /// # Errors
    /// When a file cannot be copied.
    pub fn finish(&self) -> Result<(), Failure> {
        let count = self.addresses.values().flatten().count() as u64;
        let size = figure(Unit::Kib, Some(self.bytes as f64 / 1024.0));
        match self.form {
            SoundForm::None => {}
            SoundForm::Embedded => {
                if count > 0 {
                    output::note(&format!("{}, {size}, in the page.", plural(count, "sound")));
                }
            }
            SoundForm::Linked => {
                let folder = self.folder.display();
                output::note(&format!("{}, {size}, to be copied into {folder}.", plural(count, "sound")));
            }
        }
        if self.without_room > 0 {
            let left = plural(self.without_room, "sound");
            output::caution(&format!(
                "{left} had no room in the page, of clips with fewer mistakes; --sound linked puts all beside it"
            ));
        }
        if self.unplayable > 0 {
            let left = plural(self.unplayable, "sound");
            output::caution(&format!("{left} left out: browsers play WAV, FLAC, MP3, Ogg, Opus and MP4 files"));
        }
        if self.linked.is_empty() {
            return Ok(());
        }
        fs::create_dir_all(&self.folder).map_err(|error| Problem::io("make", &self.folder, &error))?;
        for (path, name) in &self.linked {
            let to = self.folder.join(name);
            fs::copy(path, &to).map_err(|error| {
                Problem::io("copy a sound to", &to, &error).remedy("make room, or leave sounds out with --sound none")
            })?;
        }
        Ok(())
    }
}

/// The media type and the extension of a file that browsers play.
fn playable(path: &Path) -> Option<(&'static str, &'static str)> {
    match path.extension()?.to_str()?.to_lowercase().as_str() {
        "flac" => Some(("audio/flac", "flac")),
        "wav" => Some(("audio/wav", "wav")),
        "mp3" => Some(("audio/mpeg", "mp3")),
        "ogg" | "opus" => Some(("audio/ogg", "ogg")),
        "m4a" => Some(("audio/mp4", "m4a")),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sounds_are_copied_once_and_called_by_addresses() {
        let folder = tempfile::tempdir().unwrap();
        let file = |name: &str| {
            let path = folder.path().join(name);
            fs::write(&path, b"sound").unwrap();
            path
        };
        let (wav, odd) = (file("a.WAV"), file("b.aiff"));
        let mut sounds = Sounds::new(SoundForm::Linked, &folder.path().join("week 46 #1.html"));
        let address = Some("week%2046%20%231-sound/000001.wav".to_owned());
        assert_eq!((sounds.address(&wav), sounds.address(&wav)), (address.clone(), address));
        assert_eq!((sounds.address(&odd), sounds.address(&folder.path().join("none.wav"))), (None, None));
        assert!(sounds.are_beside() && sounds.unplayable == 1);
        assert!(sounds.finish().is_ok());
        assert_eq!(fs::read(folder.path().join("week 46 #1-sound/000001.wav")).unwrap(), b"sound");
        let mut none = Sounds::new(SoundForm::None, Path::new("r.html"));
        assert!(none.address(&wav).is_none() && !none.are_beside());
        let mut embedded = Sounds::new(SoundForm::Embedded, Path::new("r.html"));
        assert_eq!(embedded.address(&wav).as_deref(), Some("data:audio/wav;base64,c291bmQ="));
    }
}
