//! Every chart with hostile names and numbers: it stays a picture, and what it says stays inside.

use fonex_core::measures::Unit;
use fonex_report::charts::{
    ChangeMark, ChartWidth, Distribution, GroupBar, Guide, IntervalAxis, IntervalRow, IntervalSeries, LatencySeries,
    PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, RateMark, SoundLabel, SoundPicture, TrendChart, TrendLine,
    TrendMark, TurnBar, corpus_svg, interval_svg, latency_svg, plane_svg, sound_svg, trend_svg, turns_svg,
};
use fonex_report::png_from_svg;
use resvg::usvg::{self, Options, Tree};

const NAMES: [&str; 6] = [
    "marl/river",
    "<script>alert('x')</script> & \"more\"",
    "control \u{1} \u{1b}[31m \u{0} characters",
    "a name that goes on and on and on and on until no chart could have room for it beside the others",
    "Höhe 日本語 עברית",
    "",
];
const NUMBERS: [f64; 8] = [0.0, 1.0, -3.5, 1e-12, 1e12, f64::NAN, f64::INFINITY, f64::NEG_INFINITY];

/// All charts, with every text one of these names and every number one of these.
fn all_charts(name: &str, numbers: &[f64]) -> Vec<(&'static str, String)> {
    let number = |at: usize| numbers[at % numbers.len()];
    let pair = |at: usize| (number(at), number(at + 1));
    let marks = |from: usize| {
        (0..9).map(move |run| TrendMark {
            label: format!("{name}{run}"),
            value: (run != 4).then(|| number(run + from)),
            interval: (run % 3 != 0).then(|| pair(run + from)),
            change: [None, Some(ChangeMark::Worse), Some(ChangeMark::Better), Some(ChangeMark::Other)][run % 4],
            breaks: run == 6,
            letters: if run == 6 { "CE".to_owned() } else { String::new() },
        })
    };
    let lines = (0..8).map(|at| TrendLine { name: name.to_owned(), marks: marks(at).collect() });
    let trend = |lines| TrendChart {
        measure: "wer".into(),
        title: name.to_owned(),
        unit: Unit::Share,
        note: name.to_owned(),
        lines,
        limits: Vec::new(),
    };
    let rows = [0, 1, 2].map(|_| IntervalRow { name: name.to_owned(), size: name.to_owned() });
    let series = [0, 1, 2, 3].map(|at| IntervalSeries {
        name: name.to_owned(),
        values: (0..3).map(|row| Some(RateMark { value: number(at + row), interval: Some(pair(row)) })).collect(),
    });
    let plane = |log| PlaneChart {
        equal_units: false,
        title: name.to_owned(),
        x: PlaneAxis { label: name.to_owned(), percent: false, from_zero: true, to: None, log },
        y: PlaneAxis { label: name.to_owned(), percent: true, from_zero: false, to: Some(1.0), log: false },
        series: [PlaneForm::Line, PlaneForm::Dots, PlaneForm::Marks]
            .map(|form| PlaneSeries {
                name: name.to_owned(),
                points: (0..6).map(pair).collect(),
                labels: vec![name.to_owned(); 6],
                form,
                intervals: (0..6).map(|at| (at != 2).then(|| pair(at))).collect(),
            })
            .to_vec(),
        guides: vec![Guide { from: pair(0), to: pair(3), words: name.to_owned() }],
        note: name.to_owned(),
    };
    let sound = SoundPicture {
        title: name.to_owned(),
        subtitle: name.to_owned(),
        duration_s: number(1),
        wave: (0..40).map(|at| (number(at) as f32, number(at + 1) as f32)).collect(),
        spectrum: (0..10).map(|at| vec![number(at) as f32; 5]).collect(),
        bands_hz: (0..5).map(number).collect(),
        labels: (0..6)
            .map(|at| SoundLabel { text: name.to_owned(), start: number(at), end: number(at + 1) })
            .collect(),
        pauses: (0..4).map(pair).collect(),
    };
    let bars: Vec<TurnBar> = (0..40)
        .map(|at| TurnBar {
            name: name.to_owned(),
            parts_ms: [number(at), number(at + 1), number(at + 2)],
            overlapped_ms: number(at + 3),
        })
        .collect();
    let links = [name.to_owned(), name.to_owned(), name.to_owned()];
    let distributions = [
        Distribution { title: name.to_owned(), values: numbers.to_vec() },
        Distribution { title: name.to_owned(), values: Vec::new() },
    ];
    let groups: Vec<GroupBar> = (0..7)
        .map(|at| GroupBar { by: name.to_owned(), value: name.to_owned(), clips: at, minutes: number(at as usize) })
        .collect();
    let latencies = [LatencySeries { name: name.to_owned(), took_ms: numbers.to_vec() }];
    vec![
        ("trend", trend_svg(&trend(lines.collect()))),
        ("empty trend", trend_svg(&trend(Vec::new()))),
        ("intervals", interval_svg(name, (name, IntervalAxis::Share), &rows, &series, ChartWidth::Wide)),
        (
            "narrow intervals",
            interval_svg(name, (name, IntervalAxis::Difference(Unit::Share)), &rows, &series, ChartWidth::Narrow),
        ),
        (
            "no intervals",
            interval_svg(
                name,
                (name, IntervalAxis::Points { low: 1.0, high: 5.0, step: 1.0 }),
                &[],
                &[],
                ChartWidth::Wide,
            ),
        ),
        ("plane", plane_svg(&plane(false))),
        ("logarithmic plane", plane_svg(&plane(true))),
        ("empty plane", plane_svg(&PlaneChart::default())),
        ("sound", sound_svg(&sound)),
        ("turns", turns_svg(name, &links, &bars)),
        ("no turns", turns_svg(name, &links, &[])),
        ("corpus", corpus_svg(name, name, &distributions, &groups)),
        ("latency", latency_svg(name, &latencies)),
        ("no latency", latency_svg(name, &[])),
    ]
}

fn is_read(svg: &str) -> Result<Tree, usvg::Error> {
    Tree::from_str(svg, &Options::default())
}

#[test]
fn a_chart_becomes_a_picture() {
    for svg in [&all_charts("control \u{1} & <more>", &NUMBERS)[0].1, &all_charts("tern", &[0.1, 0.2])[4].1] {
        assert!(png_from_svg(svg).unwrap().starts_with(b"\x89PNG"));
    }
}

#[test]
fn whatever_stands_in_it_a_chart_is_a_picture() {
    for name in NAMES {
        for (chart, svg) in all_charts(name, &NUMBERS) {
            assert!(!svg.contains("<script"), "{chart}: {name:?}");
            is_read(&svg).unwrap_or_else(|error| panic!("{chart}, {name:?}: {error}\n{svg}"));
        }
    }
}

#[test]
fn single_hostile_numbers_are_drawn_too() {
    for number in NUMBERS {
        for (chart, svg) in all_charts("tern", &[number]) {
            is_read(&svg).unwrap_or_else(|error| panic!("{chart}, {number}: {error}"));
        }
    }
}

/// Attributes of a text: where it stands, how it is anchored, its size.
fn texts(svg: &str) -> Vec<(f64, f64, String, String)> {
    let attribute = |tag: &str, name: &str| {
        let from = tag.find(&format!(" {name}=\"")).map(|at| at + name.len() + 3)?;
        let rest = &tag[from..];
        Some(rest[..rest.find('"')?].to_owned())
    };
    svg.split("<text")
        .skip(1)
        .map(|text| {
            let end = text.find('>').unwrap();
            let tag = format!(" {}", &text[..end]);
            let number = |name| attribute(&tag, name).unwrap().parse::<f64>().unwrap();
            let words = text[end + 1..].split('<').next().unwrap().trim().to_owned();
            (number("x"), number("y"), attribute(&tag, "text-anchor").unwrap_or_default(), words)
        })
        .collect()
}

#[test]
fn what_a_chart_of_fair_numbers_says_stays_inside_the_picture() {
    for (chart, svg) in all_charts("marl/river", &[0.08, 0.12, 0.2, 0.31]) {
        let size = |name: &str| {
            let from = svg.find(&format!("{name}=\"")).unwrap() + name.len() + 2;
            svg[from..].split('"').next().unwrap().parse::<f64>().unwrap()
        };
        let (width, height) = (size("width"), size("height"));
        for (x, y, anchor, words) in texts(&svg) {
            // Letters of thirteen units are about seven wide.
            let wide = words.chars().count() as f64 * 6.5;
            let (from, to) = match anchor.as_str() {
                "end" => (x - wide, x),
                "middle" => (x - wide / 2.0, x + wide / 2.0),
                _ => (x, x + wide),
            };
            let inside = from > -8.0 && to < width + 8.0 && y > 0.0 && y < height;
            assert!(inside, "{chart}: {words:?} at {x}, {y} ({anchor}) in {width} x {height}");
        }
    }
}

#[test]
fn every_series_of_a_trend_has_a_look_of_its_own() {
    let mark = |label: &str| TrendMark {
        label: label.to_owned(),
        value: Some(0.1),
        interval: Some((0.05, 0.2)),
        change: None,
        breaks: false,
        letters: String::new(),
    };
    let lines: Vec<TrendLine> = (0..12)
        .map(|at| TrendLine { name: format!("variant-{at:02}"), marks: vec![mark("w41"), mark("w42")] })
        .collect();
    let chart = TrendChart {
        measure: "wer".into(),
        title: "WER".into(),
        unit: Unit::Share,
        note: String::new(),
        lines: lines.clone(),
        limits: Vec::new(),
    };
    let svg = trend_svg(&chart);
    for line in &lines {
        let start = &line.name[..4];
        assert!(svg.contains(start), "{} is not in the legend", line.name);
    }
    // One band a series.
    let bands = svg.matches("opacity=\"0.14\"").count();
    assert_eq!(bands, 12, "{svg}");
}
