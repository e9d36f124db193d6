//! How a person names a run: its number, `#12`, its label, `label:12`, or `last`.

use fonex_formats::{Place, Problem};
use fonex_run::unknown;
use fonex_store::{Run, RunRef, Store};

use crate::failure::Failure;
use crate::output;

/// Says that a label can only be a label.
const LABEL: &str = "label:";

/// The run a person named.
pub(super) fn find_run(store: &Store, typed: &str) -> Result<Run, Failure> {
    look_up(store, typed)?.map_or_else(
        || {
            let runs = store.runs()?;
            let labels: Vec<String> = runs.iter().filter_map(|run| run.label.clone()).collect();
            let problem =
                unknown(format!("there is no run \"{typed}\" in the store"), typed, &labels, Place::default());
            Err(problem.expected("a run's number, its label, or last; fonex runs lists them").into())
        },
        Ok,
    )
}

/// The same; none where no run is so named.
pub(super) fn look_up(store: &Store, typed: &str) -> Result<Option<Run>, Failure> {
    if typed == "last" {
        return Ok(store.run(&RunRef::Last)?);
    }
    if let Some(number) = typed.strip_prefix('#').and_then(|number| number.parse().ok()) {
        return Ok(store.run(&RunRef::Number(number))?);
    }
    let label = typed.strip_prefix(LABEL);
    let mut labelled = store.labelled(label.unwrap_or(typed))?;
    let numbered = match typed.parse() {
        Ok(number) => store.run(&RunRef::Number(number))?,
        Err(_) => None,
    };
    let other = labelled.iter().find(|run| numbered.as_ref().is_some_and(|numbered| numbered.id != run.id));
    if let Some(other) = other {
        let what = format!("{typed} is the number of one run and the label of run {}", other.id);
        let problem = Problem::new(what, Place::default());
        return Err(problem.remedy(format!("write \"#{typed}\" or \"{LABEL}{typed}\"")).into());
    }
    if numbered.is_some() || labelled.is_empty() {
        return Ok(numbered);
    }
    let newest = labelled.remove(0);
    if !labelled.is_empty() {
        let others: Vec<String> = labelled.iter().map(|run| format!("#{}", run.id)).collect();
        output::caution(&format!(
            "several runs are labelled \"{}\": #{} is taken, the newest; the others are {}",
            label.unwrap_or(typed),
            newest.id,
            others.join(", ")
        ));
    }
    Ok(Some(newest))
}

/// Refuses a label that would name another run.
pub(super) fn check_label(label: &str) -> Result<(), Problem> {
    let taken = label == "last" || label.starts_with('#') || label.starts_with(LABEL);
    if taken || label.trim().is_empty() {
        let problem = Problem::new(format!("\"{label}\" cannot be a label"), Place::default().field("--label"));
        return Err(problem.expected("a name that is not last, and does not begin with # or label:"));
    }
    Ok(())
}
