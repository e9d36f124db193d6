//! Values of the bench file changed on the command line: `--set plan.hear.repeats=3`.

use fonex_formats::{Place, Problem};
use toml::{Table, Value};

/// Puts `PATH=VALUE` into the table. The value is read as TOML, and as a plain string where it is none.
pub(super) fn apply(table: &mut Table, typed: &str) -> Result<(), Problem> {
    let problem = |what: String| {
        Problem::new(what, Place::default().field(format!("--set {typed}")))
            .expected("a dotted path and a value, such as plan.hear.repeats=3")
    };
    let (path, value) = typed.split_once('=').ok_or_else(|| problem("there is no = in it".to_owned()))?;
    let parts: Vec<&str> = path.split('.').map(str::trim).collect();
    if parts.iter().any(|part| part.is_empty()) {
        return Err(problem(format!("\"{path}\" is not a path")));
    }
    let value = toml::from_str::<Table>(&format!("value = {value}"))
        .ok()
        .and_then(|mut read| read.remove("value"))
        .unwrap_or_else(|| Value::String(value.to_owned()));
    let (last, above) = parts.split_last().expect("a path has a part");
    let mut here = table;
    for part in above {
        let inner = here.entry((*part).to_owned()).or_insert_with(|| Value::Table(Table::new()));
        here = inner
            .as_table_mut()
            .ok_or_else(|| problem(format!("\"{part}\" is a single value, not a table with keys")))?;
    }
    here.insert((*last).to_owned(), value);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_typed_and_paths_are_made() {
        let mut table: Table = toml::from_str("seed = 1\n[plan.a]\nrepeats = 1\n").unwrap();
        for typed in ["plan.a.repeats=3", "engine.x.build=w46", "plan.a.engines=[\"m\"]", "seed=9"] {
            apply(&mut table, typed).unwrap();
        }
        let expected: Table =
            toml::from_str("seed = 9\nengine.x.build = \"w46\"\n[plan.a]\nrepeats = 3\nengines = [\"m\"]").unwrap();
        assert_eq!(table, expected);
        assert!(apply(&mut table, "seed.x=1").is_err() && apply(&mut table, "seed").is_err());
    }
}
