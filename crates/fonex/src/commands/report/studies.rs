//! What is no run on a page: windows compared with each other, load, turns of a conversation.

use fonex_core::latency::LoadReport;
use fonex_report::{ChartFigure, ReportData, Table};
use fonex_store::{Store, Study, StudyKind};

use fonex_analysis::RunView;
use fonex_analysis::panel::PanelResult;

use super::ReportOptions;
use crate::commands::panel::{panel_caption, panel_chart, panel_tables};
use crate::commands::studies::find_study;
use crate::commands::{load, turns, windows};
use crate::failure::Failure;
use crate::output;
use fonex_run::Conversation;

/// Adds the windows of runs that delivered audio in several ways, and the studies asked for.
pub fn add(data: &mut ReportData, store: &Store, runs: &[RunView], options: &ReportOptions) -> Result<(), Failure> {
    for view in runs {
        match windows::windows_of(store, view, &options.bench.bench) {
            Ok(Some(measured)) => data.charts.push(ChartFigure {
                narrow: None,
                svg: windows::chart(&measured),
                caption: format!("Run {}: error rate against delay, by how audio was delivered.", view.name()),
            }),
            Ok(None) => {}
            // The corpus may have moved since; the rest of the page stands without it.
            Err(_) => output::caution(&format!(
                "the windows of run {} are left out: its corpus cannot be read",
                view.name()
            )),
        }
    }
    if let Some(typed) = &options.load {
        let found = find_study::<Vec<LoadReport>>(store, StudyKind::Load, typed)?;
        let caption = caption(found.id, &load::in_words(&found.figures));
        data.charts.push(ChartFigure { narrow: None, svg: load::chart(&found.figures), caption });
        data.facts.push(fact(found.id, &found.study));
    }
    if let Some(typed) = &options.turns {
        let found = find_study::<Conversation>(store, StudyKind::Turns, typed)?;
        let caption = caption(found.id, &turns::in_words(&found.figures));
        data.charts.push(ChartFigure { narrow: None, svg: turns::chart(&found.figures), caption });
        data.facts.push(fact(found.id, &found.study));
    }
    if let Some(typed) = &options.panel {
        let found = find_study::<PanelResult>(store, StudyKind::Panel, typed)?;
        let caption = format!("Study {}: {}", found.id, panel_caption(&found.figures));
        data.charts.insert(0, ChartFigure { narrow: None, svg: panel_chart(&found.figures), caption });
        data.tables.extend(panel_tables(&found.figures).iter().map(Table::html));
        data.facts.push(fact(found.id, &found.study));
    }
    Ok(())
}

fn caption(id: i64, lines: &[String]) -> String {
    let lines: Vec<&str> = lines.iter().map(|line| line.trim_end_matches('.')).collect();
    format!("Study {id}: {}.", lines.join("; "))
}

fn fact(id: i64, study: &Study) -> (String, String) {
    let machine = &study.machine;
    let what = format!(
        "{}, made {}, on {}, {}; Fonex {}",
        study.kind.as_str(),
        study.made_at,
        machine.cpu,
        output::plural(machine.cores as u64, "core"),
        study.fonex_version
    );
    (format!("Study {id}"), what)
}
