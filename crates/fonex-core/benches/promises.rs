use fonex_core::stats::*;
use rand::RngExt;
use rand_distr::{Beta, Binomial, Distribution};

type Clip = [f64; 2];
fn scatter(r: &mut Stream, p: f64, rho: f64, n: u64) -> f64 {
    let q = if rho <= 0.0 {
        p
    } else {
        let k = 1.0 / rho - 1.0;
        Beta::new(p * k, (1.0 - p) * k).unwrap().sample(r)
    };
    Binomial::new(n, q).unwrap().sample(r) as f64
}
fn len(r: &mut Stream, uneven: bool) -> u64 {
    if uneven {
        let u: f64 = r.random();
        (3.0 + (-(1.0 - u).ln()) * 9.0) as u64
    } else {
        10
    }
}
fn main() {
    let sims = 2000;
    println!("coverage");
    let shapes: Vec<(&str, Box<dyn Fn(&mut Stream) -> Clip>, f64)> = vec![
        (
            "even p=.1",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.1, 0.0, n), n as f64]
            }),
            0.1,
        ),
        (
            "uneven rho=.1 p=.1",
            Box::new(|r| {
                let n = len(r, true);
                [scatter(r, 0.1, 0.1, n), n as f64]
            }),
            0.1,
        ),
        (
            "uneven rho=.3 p=.1",
            Box::new(|r| {
                let n = len(r, true);
                [scatter(r, 0.1, 0.3, n), n as f64]
            }),
            0.1,
        ),
        (
            "uneven rho=.2 p=.03",
            Box::new(|r| {
                let n = len(r, true);
                [scatter(r, 0.03, 0.2, n), n as f64]
            }),
            0.03,
        ),
        (
            "even p=.01",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.01, 0.0, n), n as f64]
            }),
            0.01,
        ),
        (
            "lost 1%",
            Box::new(|r| {
                let n = 10;
                [if r.random::<f64>() < 0.01 { n as f64 } else { 0.0 }, n as f64]
            }),
            0.01,
        ),
        (
            "lost 5%",
            Box::new(|r| {
                let n = 10;
                [if r.random::<f64>() < 0.05 { n as f64 } else { 0.0 }, n as f64]
            }),
            0.05,
        ),
        (
            "lost 1% + scatter 3%",
            Box::new(|r| {
                let n = 10;
                [if r.random::<f64>() < 0.01 { n as f64 } else { scatter(r, 0.03, 0.0, n) }, n as f64]
            }),
            0.01 + 0.99 * 0.03,
        ),
        (
            "lost 2% + scatter 8%",
            Box::new(|r| {
                let n = len(r, true);
                [if r.random::<f64>() < 0.02 { n as f64 } else { scatter(r, 0.08, 0.0, n) }, n as f64]
            }),
            0.02 + 0.98 * 0.08,
        ),
        (
            "p=.3 rho .2",
            Box::new(|r| {
                let n = len(r, true);
                [scatter(r, 0.3, 0.2, n), n as f64]
            }),
            0.3,
        ),
        (
            "halluc",
            Box::new(|r| {
                let n = len(r, true);
                let mut e = scatter(r, 0.05, 0.05, n);
                if r.random::<f64>() < 0.03 {
                    e += 3.0 * n as f64
                };
                [e, n as f64]
            }),
            0.05 + 0.09,
        ),
    ];
    for (name, f, truth) in &shapes {
        print!("{name:24}");
        for n in [8, 10, 20, 50, 200] {
            let (mut held, mut width) = (0, 0.0);
            for s in 0..sims {
                let mut r = stream(s, &[name, "c"]);
                let kinds: Vec<RatioKind> = (0..n).map(|_| (f(&mut r), 1.0)).collect();
                if let Some(sc) = ratio_scores(&kinds, UnitKind::Clip, (0.0, 1.0)) {
                    let i = sc.interval(0.05);
                    held += u32::from(i.low <= *truth && *truth <= i.high);
                    width += i.high - i.low;
                }
            }
            print!(" {:5.1} w{:5.1}", held as f64 / sims as f64 * 100.0, width / sims as f64 * 100.0);
        }
        println!();
    }
    println!("false verdicts, family of m with slices; true power");
    let pair_shapes: Vec<(&str, Box<dyn Fn(&mut Stream) -> [f64; 4]>)> = vec![
        (
            "null scatter .1",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.1, 0.1, n), n as f64, scatter(r, 0.1, 0.1, n), n as f64]
            }),
        ),
        (
            "null lose vs scatter .1",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.1, 0.0, n), n as f64, if r.random::<f64>() < 0.1 { n as f64 } else { 0.0 }, n as f64]
            }),
        ),
        (
            "null lose vs scatter .05",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.05, 0.0, n), n as f64, if r.random::<f64>() < 0.05 { n as f64 } else { 0.0 }, n as f64]
            }),
        ),
        (
            "null lose vs scatter .02",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.02, 0.0, n), n as f64, if r.random::<f64>() < 0.02 { n as f64 } else { 0.0 }, n as f64]
            }),
        ),
        (
            "null lose2+sc8 vs sc .0984",
            Box::new(|r| {
                let n = 10;
                [
                    scatter(r, 0.0984, 0.0, n),
                    n as f64,
                    if r.random::<f64>() < 0.02 { n as f64 } else { scatter(r, 0.08, 0.0, n) },
                    n as f64,
                ]
            }),
        ),
        (
            "true 8 vs 13",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.08, 0.05, n), n as f64, scatter(r, 0.13, 0.05, n), n as f64]
            }),
        ),
        (
            "true 8 vs 11",
            Box::new(|r| {
                let n = 10;
                [scatter(r, 0.08, 0.05, n), n as f64, scatter(r, 0.11, 0.05, n), n as f64]
            }),
        ),
    ];
    for (name, f) in &pair_shapes {
        print!("{name:28}");
        for (n, slices) in [(20, 0), (50, 0), (100, 0), (400, 0), (100, 4), (100, 8), (200, 8)] {
            let mut told = 0;
            for s in 0..sims {
                let mut r = stream(s, &[name, "p"]);
                let all: Vec<PairKind> = (0..n).map(|_| (f(&mut r), 1.0)).collect();
                let m = 1 + slices;
                let alpha = 0.05 / m as f64;
                let whole = ratio_difference_scores(&all, UnitKind::Clip, 1.0).unwrap();
                let mut any = whole.p_value(0.0) < alpha;
                if slices > 0 {
                    let reach = whole.reach();
                    for c in all.chunks(n / slices) {
                        if let Some(sc) = ratio_difference_scores(c, UnitKind::Clip, 1.0) {
                            let rr = sc.reach().wider(reach);
                            any |= sc.with_reach(rr).p_value(0.0) < alpha;
                        }
                    }
                }
                told += u32::from(any);
            }
            print!(" {n}/{slices}:{:5.1}", told as f64 / sims as f64 * 100.0);
        }
        println!();
    }

    println!("speakers: coverage; false; true");
    for g in [4, 6, 8, 12, 20, 40] {
        for rho in [0.05, 0.2] {
            let (mut held, mut told, mut truth) = (0, 0, 0);
            for s in 0..sims {
                let mut r = stream(s, &["spk"]);
                let mut one: Vec<RatioKind> = vec![];
                let mut two: Vec<PairKind> = vec![];
                let mut tr: Vec<PairKind> = vec![];
                for _ in 0..g {
                    let k = 2 + (r.random::<f64>() * 12.0) as usize;
                    let b = |r: &mut Stream, p: f64| {
                        let q = 1.0 / rho - 1.0;
                        Beta::new(p * q, (1.0 - p) * q).unwrap().sample(r)
                    };
                    let (p1, p2, p3) = (b(&mut r, 0.1), b(&mut r, 0.1), b(&mut r, 0.3));
                    let (mut e1, mut e2, mut e3, mut n) = (0.0, 0.0, 0.0, 0.0);
                    for _ in 0..k {
                        e1 += scatter(&mut r, p1, 0.02, 10);
                        e2 += scatter(&mut r, p2, 0.02, 10);
                        e3 += scatter(&mut r, p3, 0.02, 10);
                        n += 10.0;
                    }
                    one.push(([e1, n], 1.0));
                    two.push(([e1, n, e2, n], 1.0));
                    tr.push(([e1, n, e3, n], 1.0));
                }
                let i = ratio_scores(&one, UnitKind::Group, (0.0, 1.0)).unwrap().interval(0.05);
                held += u32::from(i.low <= 0.1 && 0.1 <= i.high);
                told += u32::from(ratio_difference_scores(&two, UnitKind::Group, 1.0).unwrap().p_value(0.0) < 0.05);
                truth += u32::from(ratio_difference_scores(&tr, UnitKind::Group, 1.0).unwrap().p_value(0.0) < 0.05);
            }
            println!(
                "{g} speakers rho {rho}: held {:.1} false {:.1} told 10->30 {:.1}",
                held as f64 / sims as f64 * 100.0,
                told as f64 / sims as f64 * 100.0,
                truth as f64 / sims as f64 * 100.0
            );
        }
    }

    println!("trend");
    use fonex_core::measures::{self, Sample, series_scores};
    use fonex_core::verdict::look;
    let wer = measures::find("wer").unwrap();
    for (name, clips, runs, p0, step, at, creep, lost, sims) in [
        ("unchanged scatter", 100, 100, 0.1, 0.0, 0, 0.0, 0.0, 400u64),
        ("unchanged lost5%", 100, 100, 0.03, 0.0, 0, 0.0, 0.05, 400),
        ("unchanged lost1%", 50, 100, 0.05, 0.0, 0, 0.0, 0.01, 400),
        ("creep .3", 100, 20, 0.08, 0.0, 0, 0.003, 0.0, 400),
        ("creep .3 200 clips", 200, 20, 0.08, 0.0, 0, 0.003, 0.0, 400),
        ("creep .3 400", 400, 20, 0.08, 0.0, 0, 0.003, 0.0, 200),
        ("step 8 to 11", 100, 20, 0.08, 0.03, 8, 0.0, 0.0, 400),
        ("step 8 to 11", 200, 20, 0.08, 0.03, 8, 0.0, 0.0, 400),
    ] {
        let mut told = vec![];
        for s in 0..sims {
            let mut r = stream(s, &[name, "t"]);
            let hard: Vec<f64> = (0..clips)
                .map(|_| {
                    let k = 1.0 / 0.05 - 1.0;
                    Beta::new(0.1 * k, 0.9 * k).unwrap().sample(&mut r) / 0.1
                })
                .collect();
            let samples: Vec<Sample> = (0..runs)
                .map(|t| {
                    let mut sm = Sample::new(4, UnitKind::Clip);
                    for c in 0..clips {
                        let p =
                            ((p0 + creep * t as f64 + if at > 0 && t >= at { step } else { 0.0 }) * hard[c]).min(1.0);
                        let e = if r.random::<f64>() < lost { 10.0 } else { scatter(&mut r, p, 0.0, 10) };
                        sm.add(c as u32, [[10.0 - e, e, 0.0, 0.0].as_slice()].into_iter());
                    }
                    sm
                })
                .collect();
            let all = series_scores(wer.estimator, &samples.iter().collect::<Vec<_>>()).unwrap();
            for k in 2..=runs {
                let part = measures::SeriesScores {
                    values: all.values[..k].to_vec(),
                    tested: all.tested[..k].to_vec(),
                    scores: all.scores[..k].to_vec(),
                    kind: all.kind,
                };
                if let Some(c) = look(&part) {
                    told.push((k, c.from));
                    break;
                }
            }
        }
        let by = |k: usize| told.iter().filter(|(t, _)| *t <= k).count() as f64 / sims as f64 * 100.0;
        println!(
            "{name} {clips}: told by 12 {:.1} by 20 {:.1} by 50 {:.1} by 100 {:.1}; before change {:.1}",
            by(12),
            by(20),
            by(50),
            by(100),
            if at > 0 { by(at) } else { 0.0 }
        );
    }
}
