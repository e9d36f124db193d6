//! One table in every form: nothing is lost, nothing is wider than the terminal, numbers come back as they were.

use fonex_core::measures::Unit;
use fonex_core::stats::Interval;
use fonex_report::{Cell, Table};
use proptest::prelude::*;
use unicode_width::UnicodeWidthStr;

const UNITS: [Unit; 6] = [Unit::Share, Unit::Ms, Unit::Ratio, Unit::Dbfs, Unit::Kib, Unit::Words];

fn words() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[a-z]{1,9}( [a-z]{1,9}){0,5}",
        1 => "[a-z]{20,60}",
        1 => Just("a|b \\ <i> \"quoted\", and, commas".to_owned()),
        1 => Just("two\nlines\tand\u{1b}[31m red".to_owned()),
        1 => Just("Fahrt über Höhe 日本語".to_owned()),
    ]
}

fn number() -> impl Strategy<Value = f64> {
    prop_oneof![-1e6..1e6_f64, -1.0..1.0_f64, Just(0.0), Just(-0.0), Just(f64::NAN), Just(f64::INFINITY)]
}

fn cell() -> impl Strategy<Value = Cell> {
    let interval = || prop::option::of((number(), number()).prop_map(|(low, high)| Interval { low, high }));
    let unit = || prop::sample::select(UNITS.to_vec());
    prop_oneof![
        Just(Cell::Empty),
        words().prop_map(Cell::Text),
        words().prop_map(Cell::Warning),
        any::<u32>().prop_map(|count| Cell::Count(u64::from(count))),
        (number(), 0..4_usize).prop_map(|(value, places)| Cell::Number(value, places)),
        (unit(), number()).prop_map(|(unit, value)| Cell::Figure(unit, value)),
        (unit(), number(), interval()).prop_map(|(unit, value, interval)| Cell::Estimate(unit, value, interval)),
        (unit(), number(), interval()).prop_map(|(unit, value, interval)| Cell::Difference(unit, value, interval)),
        Just(Cell::Verdict("▲", "worse".to_owned())),
        Just(Cell::Named("word_start_p50", "word start, median")),
    ]
}

/// Names, ranks, and rows of as many cells.
type Contents = (Vec<(String, u8)>, Vec<Vec<Cell>>);

fn contents() -> impl Strategy<Value = Contents> {
    (1..7_usize).prop_flat_map(|columns| {
        let names = prop::collection::vec(("[a-z]{1,8}( [a-z]{1,8}){0,2}", 0..4_u8), columns);
        let rows = prop::collection::vec(prop::collection::vec(cell(), columns), 1..6);
        (names, rows)
    })
}

fn table((names, rows): &Contents) -> Table {
    let mut table = Table::new(names.iter().map(|(name, rank)| (name.as_str(), *rank)));
    rows.iter().for_each(|row| table.row(row.iter().cloned()));
    table
}

/// The plain numbers of a cell: value, low, high.
fn numbers(cell: &Cell) -> Option<[Option<f64>; 3]> {
    let bounds = |i: &Option<Interval>| [i.map(|i| i.low), i.map(|i| i.high)];
    Some(match cell {
        Cell::Count(count) | Cell::Alarm(count) => [Some(*count as f64), None, None],
        Cell::Number(value, _) | Cell::Figure(_, value) => [Some(*value), None, None],
        Cell::Estimate(_, value, interval) | Cell::Difference(_, value, interval) => {
            let [low, high] = bounds(interval);
            [Some(*value), low, high]
        }
        Cell::Empty => [None; 3],
        _ => return None,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn files_hold_every_number_as_it_is(contents in contents()) {
        let csv = table(&contents).csv();
        let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(csv.as_bytes());
        let header = reader.headers().unwrap().clone();
        let records: Vec<csv::StringRecord> = reader.records().collect::<Result<_, _>>().unwrap();
        let (names, rows) = &contents;
        prop_assert_eq!(records.len(), rows.len());
        let finite = |value: Option<f64>| value.filter(|value| value.is_finite());
        for (record, row) in records.iter().zip(rows) {
            let mut field = 0;
            for (column, cell) in row.iter().enumerate() {
                let bounds = rows.iter().any(|row| matches!(row[column], Cell::Estimate(..) | Cell::Difference(..)));
                let base = names[column].0.replace(' ', "_");
                prop_assert_eq!(&header[field], base.as_str());
                if let Some(expected) = numbers(cell) {
                    let parse = |at: usize| record[at].parse::<f64>().ok();
                    prop_assert_eq!(parse(field), finite(expected[0]));
                    if bounds {
                        prop_assert_eq!(&header[field + 1], format!("{base}_low"));
                        prop_assert_eq!([parse(field + 1), parse(field + 2)], [finite(expected[1]), finite(expected[2])]);
                    }
                }
                field += if bounds { 3 } else { 1 };
            }
            prop_assert_eq!(field, record.len());
        }
        prop_assert!(!csv.contains(['▲', '−', '–', '\u{1b}']), "{}", csv);
    }

    #[test]
    fn a_terminal_is_never_too_narrow_and_no_cell_breaks_it(contents in contents(), width in 30..170_usize) {
        let table = table(&contents);
        let text = table.terminal(width);
        // An upright block takes what its names and some words need.
        let names = contents.0.iter().map(|(name, _)| name.width()).max().unwrap();
        let most = width.max(names + 20).max(longest_word(&contents) + names + 2);
        for line in text.lines() {
            let fits = line.width() <= width || (text.lines().all(|l| l.is_empty() || !l.contains('─')) && line.width() <= most);
            prop_assert!(fits, "{} > {}\n{}", line.width(), width, text);
            prop_assert!(!line.chars().any(char::is_control), "{:?}", line);
        }
        // What is left out is named.
        for (name, _) in &contents.0 {
            prop_assert!(name.split(' ').all(|word| text.contains(word)), "{} is not there\n{}", name, text);
        }
    }

    #[test]
    fn every_row_of_markdown_has_every_column(contents in contents()) {
        let markdown = table(&contents).markdown();
        let bars = |line: &str| line.replace("\\\\", "").replace("\\|", "").matches('|').count();
        for line in markdown.lines() {
            prop_assert_eq!(bars(line), contents.0.len() + 1, "{}", line);
            prop_assert!(!line.contains('<'), "{}", line);
        }
        prop_assert_eq!(markdown.lines().count(), contents.1.len() + 2);
    }
}

fn longest_word((_, rows): &Contents) -> usize {
    let words = |cell: &Cell| match cell {
        Cell::Text(words) | Cell::Warning(words) => words.split(' ').map(str::width).max().unwrap_or(0),
        _ => 44,
    };
    rows.iter().flatten().map(words).max().unwrap_or(0)
}

#[test]
fn a_table_stands_upright_where_it_has_no_room() {
    let mut table = Table::new([("variant", 0), ("difference", 0)]).titled("Pairs").noted("Read with care.");
    let interval = Some(Interval { low: -0.026, high: 0.174 });
    table.row([Cell::text("marl/river against marl/brook"), Cell::Difference(Unit::Share, 0.074, interval)]);
    table.row([Cell::text("tern"), Cell::Empty]);
    let upright = "Pairs\n\
                   variant     marl/river against\n\
                   \x20           marl/brook\n\
                   difference  +7.4 pts [−2.6,\n\
                   \x20           +17.4]\n\
                   \n\
                   variant     tern\n\
                   difference  –\n\
                   Read with care.\n";
    assert_eq!(table.terminal(30), upright);
    let beside = "Pairs\n\
                  variant                                    difference\n\
                  ─────────────────────────────────────────────────────\n\
                  marl/river against marl/brook  +7.4 pts [−2.6, +17.4]\n\
                  tern                                                –\n\
                  Read with care.\n";
    assert_eq!(table.terminal(80), beside);
}

#[test]
fn columns_without_a_word_are_left_out_where_that_is_asked() {
    let mut table = Table::new([("variant", 0), ("reason", 0), ("more clips", 0)]);
    table.row([Cell::text("tern"), Cell::text(""), Cell::Count(0)]);
    assert_eq!(table.without_empty_columns().csv(), "variant,more_clips\ntern,0\n");
}
