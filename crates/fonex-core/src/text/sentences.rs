//! Long texts cut at sentence ends, for engines that take a limited number of characters.

/// A word that alone is longer than a part may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WordTooLong {
    /// Its first character, from 1.
    pub at: usize,
    /// Its characters.
    pub length: usize,
}

/// Cuts a text into parts of at most `most` characters: after the last sentence end that fits, else after a comma,
/// semicolon or colon, else between words. Nothing is lost but the white space at the seams. Linear in the text.
///
/// # Errors
/// A word that does not fit.
pub fn split_at_sentences(text: &str, most: usize) -> Result<Vec<String>, WordTooLong> {
    let characters: Vec<char> = text.trim().chars().collect();
    let (mut parts, mut start) = (Vec::new(), 0);
    while start < characters.len() {
        let end = part_end(&characters[start..], most).ok_or_else(|| {
            let length = characters[start..].iter().take_while(|c| !c.is_whitespace()).count();
            WordTooLong { at: start + 1, length }
        })?;
        parts.push(characters[start..start + end].iter().collect::<String>().trim_end().to_owned());
        start += end;
        start += characters[start..].iter().take_while(|c| c.is_whitespace()).count();
    }
    Ok(parts)
}

/// Where the first part of a text ends; none where not even its first word fits.
fn part_end(text: &[char], most: usize) -> Option<usize> {
    if text.len() <= most {
        return Some(text.len());
    }
    // A seam lies before white space, or at the end of a script that has none between sentences.
    let seam = |end: usize| text.get(end).is_none_or(|c| c.is_whitespace());
    let ends_with = |end: usize, signs: &str| {
        let quotes = |c: char| matches!(c, '"' | '\'' | '”' | '’' | '»' | ')');
        let last = text[..end].iter().rev().find(|c| !quotes(**c));
        last.is_some_and(|c| signs.contains(*c))
    };
    let last = |fits: &dyn Fn(usize) -> bool| (1..=most).rev().find(|end| fits(*end));
    last(&|end| seam(end) && ends_with(end, ".!?…") || ends_with(end, "。！？"))
        .or_else(|| last(&|end| seam(end) && ends_with(end, ",;:") || ends_with(end, "、，；：")))
        .or_else(|| last(&seam))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seams_are_chosen_as_a_reader_would() {
        let parts = |text: &str, most| split_at_sentences(text, most).unwrap();
        assert_eq!(parts("One. Two is here. Three", 17), ["One. Two is here.", "Three"]);
        assert_eq!(
            parts("He said \"go.\" Then, at 3.5 metres, stop", 24),
            ["He said \"go.\"", "Then, at 3.5 metres,", "stop"]
        );
        assert_eq!(parts("alpha beta gamma", 11), ["alpha beta", "gamma"]);
        assert_eq!(parts("今日は晴れ。明日は雨。", 6), ["今日は晴れ。", "明日は雨。"]);
        assert_eq!(parts("  ", 3), Vec::<String>::new());
        assert_eq!(split_at_sentences("an extraordinary word", 8), Err(WordTooLong { at: 4, length: 13 }));
    }

    #[test]
    fn nothing_is_lost_at_any_length() {
        let text = "Cabin 14, hold. The wind at pylon six is strong; wait! Doors: closed? \"Yes.\" Then go on";
        for most in 7..100 {
            let parts = split_at_sentences(text, most).unwrap();
            assert!(parts.iter().all(|part| !part.is_empty() && part.chars().count() <= most));
            assert_eq!(parts.join(" "), text, "{most}");
        }
    }
}
