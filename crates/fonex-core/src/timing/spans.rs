//! Where in the audio each compared word lies, so that a person can listen to just that word.

use crate::align::{Against, Edit, WordGraph, align};
use crate::text::{TextProfile, Token};

/// Start and end in seconds from the start of the audio.
pub type Span = (f64, f64);

/// The time span of each of `tokens`, which are compared words after the text profile, from the timed words they come from
/// (text, start, end). None for a token that no timed word gives: one without times, or one that is written otherwise there.
/// A timed word of several tokens gives each of them its whole span. Linear where the words agree; otherwise as costly as
/// aligning the two.
#[must_use]
pub fn token_spans<'w>(
    profile: &TextProfile,
    tokens: &[&Token],
    timed: impl Iterator<Item = (&'w str, Option<f64>, Option<f64>)>,
) -> Vec<Option<Span>> {
    let mut texts: Vec<Token> = Vec::with_capacity(tokens.len());
    let mut spans: Vec<Option<Span>> = Vec::with_capacity(tokens.len());
    for (text, start, end) in timed {
        let span = start.zip(end).filter(|(start, end)| start.is_finite() && end.is_finite() && start <= end);
        for token in profile.tokens(text) {
            texts.push(token);
            spans.push(span);
        }
    }
    if texts.iter().eq(tokens.iter().copied()) {
        return spans;
    }
    let mut found = vec![None; tokens.len()];
    if spans.iter().all(Option::is_none) {
        return found;
    }
    let tokens: Vec<Token> = tokens.iter().map(|token| (*token).clone()).collect();
    let alike = |_, _, same: bool| Against { apart: 0, unlike: u8::from(!same) };
    for step in align(&WordGraph::chain(texts), &tokens, alike).steps {
        if let (Edit::Correct, Some(timed), Some(token)) = (step.edit, step.said, step.heard) {
            found[token] = spans[timed];
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_find_the_words_they_come_from() {
        let profile = TextProfile::shipped("en").unwrap();
        let tokens = profile.tokens("Cabin fourteen, hold at pylon six.");
        let tokens: Vec<&Token> = tokens.iter().collect();
        let timed = [
            ("Cabin", Some(0.1), Some(0.4)),
            ("um", Some(0.4), Some(0.5)),
            ("fourteen,", Some(0.5), None),
            ("hold at", Some(1.0), Some(1.5)),
            ("pylon", Some(2.0), Some(1.0)),
        ];
        let spans = token_spans(&profile, &tokens, timed.into_iter());
        let held = Some((1.0, 1.5));
        assert_eq!(
            spans,
            [Some((0.1, 0.4)), None, held, held, None, None],
            "no end, an end before its start, no word"
        );
        let whole = token_spans(&profile, &tokens[..1], [timed[0]].into_iter());
        assert_eq!(whole, [Some((0.1, 0.4))]);
        assert_eq!(token_spans(&profile, &tokens[..2], std::iter::empty()), [None, None]);
        assert_eq!(token_spans(&profile, &[], timed.into_iter()), []);
    }
}
