//! What a request carries.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hyper::body::Bytes;
use serde_json::Value;

use super::RequestConfig;
use crate::audio_form::AudioForm;
use crate::values::Values;

/// A request's body and its media type; none for a request without one.
#[derive(Debug, Default)]
pub(super) struct Body {
    pub(super) media_type: Option<String>,
    pub(super) bytes: Bytes,
}

/// The value that stands for the sound in a multipart form.
const SOUND: &str = "{audio}";

pub(super) fn build(config: &RequestConfig, values: &Values<'_>, sound: Option<&[u8]>, form: AudioForm) -> Body {
    if let Some(template) = &config.json {
        let filled = match sound.filter(|_| mentions(template, "{audio_base64}")) {
            None => values.fill_json(template),
            Some(sound) => {
                let mut values = values.clone();
                values.set("audio_base64", STANDARD.encode(sound));
                values.fill_json(template)
            }
        };
        return Body { media_type: Some("application/json".to_owned()), bytes: filled.to_string().into() };
    }
    if let Some(parts) = &config.form {
        return multipart(
            parts.iter().map(|(name, template)| (name.as_str(), template.as_str())),
            values,
            sound,
            form,
        );
    }
    match (config.body.as_deref(), sound) {
        (Some(SOUND), Some(sound)) => {
            Body { media_type: Some(form.container.media_type().to_owned()), bytes: Bytes::copy_from_slice(sound) }
        }
        (Some(template), _) => {
            let media_type = Some("text/plain; charset=utf-8".to_owned());
            Body { media_type, bytes: values.fill(template).into() }
        }
        (None, _) => Body::default(),
    }
}

fn mentions(template: &Value, name: &str) -> bool {
    template.to_string().contains(name)
}

/// `multipart/form-data` (RFC 7578). The boundary is made longer until nothing in the parts looks like it.
fn multipart<'p>(
    parts: impl Iterator<Item = (&'p str, &'p str)>,
    values: &Values<'_>,
    sound: Option<&[u8]>,
    form: AudioForm,
) -> Body {
    let mut filled = Vec::new();
    for (name, template) in parts {
        let sound = sound.filter(|_| template == SOUND);
        let text = if sound.is_some() { Vec::new() } else { values.fill(template).into_bytes() };
        filled.push((name.replace('"', "%22"), sound, text));
    }
    let mut boundary = "fonex-part".to_owned();
    let found_in = |bytes: &[u8], boundary: &str| bytes.windows(boundary.len()).any(|w| w == boundary.as_bytes());
    while filled.iter().any(|(_, sound, text)| found_in(sound.unwrap_or(text), &boundary)) {
        boundary += "-part";
    }
    let mut bytes = Vec::new();
    for (name, sound, text) in &filled {
        let head = match sound {
            Some(_) => format!(
                "--{boundary}\r\nContent-Disposition: form-data; name=\"{name}\"; filename=\"audio.{}\"\r\nContent-Type: {}\r\n\r\n",
                form.container.as_str(),
                form.container.media_type()
            ),
            None => format!("--{boundary}\r\nContent-Disposition: form-data; name=\"{name}\"\r\n\r\n"),
        };
        bytes.extend_from_slice(head.as_bytes());
        bytes.extend_from_slice(sound.unwrap_or(text));
        bytes.extend_from_slice(b"\r\n");
    }
    bytes.extend_from_slice(format!("--{boundary}--\r\n").as_bytes());
    Body { media_type: Some(format!("multipart/form-data; boundary={boundary}")), bytes: bytes.into() }
}
