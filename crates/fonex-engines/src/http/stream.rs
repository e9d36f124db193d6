//! Answers that come in steps: server-sent events (WHATWG HTML, section 9.2) and JSON Lines.

use std::time::Duration;

use crate::mapping::{ResultConfig, ResultForm};

/// One step of a stream and when its last byte came, counted from the start of the request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Step {
    pub(super) at: Duration,
    pub(super) data: String,
}

/// Cuts a stream into steps as its bytes come. A step longer than the limit is an error, not a growing buffer.
pub(super) struct StepReader<'c> {
    config: &'c ResultConfig,
    events: bool,
    line: Vec<u8>,
    event: String,
    data: Option<String>,
    after_return: bool,
    pub(super) steps: Vec<Step>,
    /// The mark of the end was seen.
    pub(super) ended: bool,
    /// What is wrong with the stream.
    pub(super) fault: Option<String>,
}

const LONGEST_LINE: usize = 16 << 20;
/// Steps of one answer.
const MOST_STEPS: usize = 200_000;

impl<'c> StepReader<'c> {
    pub(super) fn new(form: ResultForm, config: &'c ResultConfig) -> Self {
        Self {
            config,
            events: form == ResultForm::Events,
            line: Vec::new(),
            event: String::new(),
            data: None,
            after_return: false,
            steps: Vec::new(),
            ended: false,
            fault: None,
        }
    }

    pub(super) fn feed(&mut self, bytes: &[u8], at: Duration) {
        for byte in bytes {
            match byte {
                b'\n' if self.after_return => self.after_return = false,
                b'\n' | b'\r' => {
                    self.after_return = *byte == b'\r';
                    self.end_line(at);
                }
                other => {
                    self.after_return = false;
                    if self.line.len() < LONGEST_LINE {
                        self.line.push(*other);
                    } else {
                        self.fault.get_or_insert_with(|| {
                            format!("a line of the stream is longer than {} MiB", LONGEST_LINE >> 20)
                        });
                    }
                }
            }
        }
    }

    /// The stream is over: what stands there without an end of line still counts.
    pub(super) fn finish(&mut self, at: Duration) {
        if !self.line.is_empty() {
            self.end_line(at);
        }
        self.dispatch(at);
    }

    fn end_line(&mut self, at: Duration) {
        let line = std::mem::take(&mut self.line);
        let Ok(line) = String::from_utf8(line) else {
            self.fault.get_or_insert_with(|| "the stream is not UTF-8".to_owned());
            return;
        };
        let line = line.trim_start_matches('\u{feff}');
        if !self.events {
            if !line.trim().is_empty() {
                self.step(line.trim().to_owned(), at);
            }
            return;
        }
        let (field, value) = line.split_once(':').unwrap_or((line, ""));
        let value = value.strip_prefix(' ').unwrap_or(value);
        match field {
            "" if line.is_empty() => self.dispatch(at),
            "event" => value.clone_into(&mut self.event),
            "data" => match &mut self.data {
                Some(data) => {
                    data.push('\n');
                    data.push_str(value);
                }
                None => self.data = Some(value.to_owned()),
            },
            _ => {}
        }
    }

    fn dispatch(&mut self, at: Duration) {
        let event = std::mem::take(&mut self.event);
        let Some(data) = self.data.take() else { return };
        let wanted = &self.config.events;
        if self.is_end(&event) {
            self.ended = true;
        } else if wanted.is_empty() || wanted.contains(&event) || self.is_end(&data) {
            // The end mark counts in every event, also in one that is not read.
            self.step(data, at);
        }
    }

    fn is_end(&self, text: &str) -> bool {
        self.config.end_mark.as_deref() == Some(text.trim())
    }

    fn step(&mut self, data: String, at: Duration) {
        if self.is_end(&data) {
            self.ended = true;
        } else if self.steps.len() == MOST_STEPS {
            self.fault.get_or_insert_with(|| format!("the stream has more than {MOST_STEPS} steps"));
        } else if !self.ended {
            self.steps.push(Step { at, data });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(form: ResultForm, config: &ResultConfig, bytes: &[u8], cuts: usize) -> Vec<String> {
        let mut reader = StepReader::new(form, config);
        bytes.chunks(cuts).for_each(|chunk| reader.feed(chunk, Duration::ZERO));
        reader.finish(Duration::ZERO);
        reader.steps.into_iter().map(|step| step.data).collect()
    }

    #[test]
    fn events_as_the_standard_shows_them_however_they_are_cut() {
        let stream = ": remark\n\nevent: add\r\ndata: {\"a\":\r\ndata: \"ü\"}\r\n\r\nid: 7\rdata:x\r\rdata: [END]\n\ndata: after\n\n";
        let config = ResultConfig { end_mark: Some("[END]".into()), ..ResultConfig::default() };
        for cuts in 1..20 {
            let steps = read(ResultForm::Events, &config, stream.as_bytes(), cuts);
            assert_eq!(steps, ["{\"a\":\n\"ü\"}", "x"], "cut every {cuts}");
        }
        let only = ResultConfig { events: vec!["add".into()], ..ResultConfig::default() };
        assert_eq!(read(ResultForm::Events, &only, stream.as_bytes(), 7).len(), 1);
    }

    #[test]
    fn the_end_is_seen_in_an_event_that_is_not_read() {
        for (end, mark) in [("event: done\ndata: [END]\n\n", "[END]"), ("event: end\ndata: {}\n\n", "end")] {
            let stream = format!("event: add\ndata: a\n\nevent: ping\ndata: b\n\n{end}event: add\ndata: late\n\n");
            let config =
                ResultConfig { end_mark: Some(mark.into()), events: vec!["add".into()], ..ResultConfig::default() };
            let mut reader = StepReader::new(ResultForm::Events, &config);
            reader.feed(stream.as_bytes(), Duration::ZERO);
            assert!(reader.ended);
            assert_eq!(reader.steps.into_iter().map(|step| step.data).collect::<Vec<_>>(), ["a"]);
        }
    }

    #[test]
    fn lines_with_and_without_a_last_end() {
        let steps = read(ResultForm::Lines, &ResultConfig::default(), b"{\"a\":1}\r\n\n {\"a\":2}", 3);
        assert_eq!(steps, ["{\"a\":1}", "{\"a\":2}"]);
        let config = ResultConfig::default();
        let mut reader = StepReader::new(ResultForm::Lines, &config);
        reader.feed(b"\xff\xfe\n", Duration::ZERO);
        assert!(reader.fault.is_some());
    }
}
