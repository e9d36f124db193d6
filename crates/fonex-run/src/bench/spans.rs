//! On which line of a bench file a field stands.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The line of the deepest part of `path` that the file holds, from 1. `path` is dotted, with `[2]` for list elements.
pub(super) fn line_of(text: &str, path: &str) -> Option<u64> {
    let table = DeTable::parse(text).ok()?;
    let mut offset = None;
    let mut here: Option<&DeTable<'_>> = Some(table.get_ref());
    for part in path.split('.') {
        let name = part.split('[').next().unwrap_or(part);
        let Some((key, value)) = here?.iter().find(|(key, _)| key.get_ref() == name) else { break };
        offset = Some(key.span().start);
        here = inner_table(value);
        if here.is_none() {
            break;
        }
    }
    offset.map(|offset| line_at(text, offset))
}

fn inner_table<'v, 'i>(value: &'v Spanned<DeValue<'i>>) -> Option<&'v DeTable<'i>> {
    match value.get_ref() {
        DeValue::Table(table) => Some(table),
        _ => None,
    }
}

/// The line of a byte offset, from 1.
pub(super) fn line_at(text: &str, offset: usize) -> u64 {
    text.as_bytes()[..offset.min(text.len())].iter().filter(|byte| **byte == b'\n').count() as u64 + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_found_on_their_lines() {
        let text = "seed = 1\n\n[engine.marl]\ntask = \"hear\"\n[engine.marl.settings]\nbeam = 4\n";
        assert_eq!(line_of(text, "engine.marl.task"), Some(4));
        assert_eq!(line_of(text, "engine.marl.settings.beam"), Some(6));
        assert_eq!(line_of(text, "engine.marl.absent"), Some(3));
        assert_eq!(line_of(text, "plan"), None);
    }
}
