//! The report in a real browser: searched, filtered and listened to with a keyboard, and proof against what engines write.

use serde_json::{Value, json};

use crate::browser::Browser;
use crate::util::{Folder, corpus, program_is_there};

/// What a hostile engine, corpus or person might write.
const ATTACK: &str =
    "</script><script>window.hacked=1</script><img src=x onerror=window.hacked=2> \u{1f} ]]> <!-- & \"'";

/// Two recognisers with word times over labelled words; some clips fail, one text is long, and much of it is hostile.
fn explored() -> Folder {
    let folder = Folder::new();
    corpus(&folder, &[]);
    let (mut labels, mut good, mut bad) = (String::new(), String::new(), String::new());
    for at in 0..30 {
        let text = match at {
            5 => format!("{ATTACK} hold at pylon 5"),
            7 => "hold at pylon six ".repeat(40),
            _ => format!("hold at pylon {at}"),
        };
        let words: Vec<&str> = text.split_whitespace().collect();
        let timed = |words: &[&str]| -> Vec<Value> {
            let span = |at: usize| 0.1 + 1.8 * at as f64 / words.len() as f64;
            let word = |(at, word): (usize, &&str)| json!({ "text": word, "start": span(at), "end": span(at + 1) });
            words.iter().enumerate().map(word).collect()
        };
        let channel = if at % 2 == 0 { "radio" } else { "desk" };
        let tags = json!({ "channel": channel, "attack": ATTACK });
        let id = format!("call-{at}");
        let clip = json!({ "id": id, "audio": "audio/any.wav", "text": text, "lang": "en", "tags": tags,
                           "words": timed(&words), "terms": ["pylon"] });
        labels += &format!("{clip}\n");
        good += &format!("{}\n", json!({ "id": id, "text": text, "words": timed(&words), "took_ms": at }));
        if at != 3 {
            let text = if at % 3 == 0 { text.replace("pylon", "nylon") } else { text.clone() };
            let heard = if at == 5 { format!("{text} {ATTACK}") } else { text };
            let words: Vec<&str> = heard.split_whitespace().collect();
            bad += &format!("{}\n", json!({ "id": id, "text": heard, "words": timed(&words) }));
        }
    }
    folder.write("corpus.jsonl", labels);
    folder.write("good.jsonl", good);
    folder.write("bad.jsonl", bad);
    let engine = |name: &str| {
        format!("[engine.{name}]\ntransport = \"recorded\"\ntask = \"hear\"\nresults = \"{name}.jsonl\"\n")
    };
    let plan = "[plan.p]\nengines = [\"good\", \"bad\"]\nwarm_up = 0\n";
    folder.write("fonex.toml", format!("corpus = \"corpus.jsonl\"\n{}{}{plan}", engine("good"), engine("bad")));
    // One clip has no result.
    folder.fonex(&["run", "p", "--label", ATTACK]).expect(3);
    folder
}

fn ready(browser: &mut Browser) {
    browser.wait("performance.getEntriesByName('browser ready').length === 1");
}

/// Chooses in the control of this name.
fn choose(browser: &mut Browser, control: &str, value: &str) {
    browser.value(&format!(
        "(() => {{ const label = [...document.querySelectorAll('.asked label')].find((l) => l.firstChild.textContent === {control:?});
           const own = label.lastChild; own.value = {value:?};
           own.dispatchEvent(new Event(own.tagName === 'INPUT' ? 'input' : 'change')); }})()"
    ));
}

fn shown(browser: &mut Browser) -> Vec<String> {
    let ids = browser.value("[...document.querySelectorAll('.row b')].map((b) => b.textContent)");
    ids.as_array().unwrap().iter().map(|id| id.as_str().unwrap().to_owned()).collect()
}

#[test]
fn clips_are_searched_and_heard_word_by_word() {
    if !program_is_there("chromium") {
        return;
    }
    let folder = explored();
    folder.fonex(&["report", "1", "-o", "r.html"]).expect(0).says(&["1 sound", "in the page", "Wrote r.html"]);
    let mut browser = Browser::open(&folder.path().join("r.html"), "");
    ready(&mut browser);
    // The clip without an answer lost all its words; then the long one, which missed no term, and the others by their errors.
    assert_eq!(browser.value("document.querySelector('.count').textContent"), "30 clips of 30");
    assert_eq!(shown(&mut browser)[0], "call-0", "a term was missed there, and it comes first in the corpus");
    choose(&mut browser, "Search", "NYLON 12");
    assert_eq!(shown(&mut browser), ["call-12"]);
    choose(&mut browser, "Search", "");
    choose(&mut browser, "Result", "failed");
    assert_eq!(shown(&mut browser), ["call-3"]);
    assert!(browser.value("document.querySelector('.detail').textContent").as_str().unwrap().contains("broken"));
    choose(&mut browser, "Result", "right");
    choose(&mut browser, "Order", "id");
    let right: Vec<String> = (0..30).filter(|at| at % 3 != 0 && *at != 5).map(|at| format!("call-{at}")).collect();
    assert_eq!(shown(&mut browser), right, "by number, not by letter");
    choose(&mut browser, "Result", "lost");
    assert!(!shown(&mut browser).iter().any(|id| right.contains(id)));
    choose(&mut browser, "Result", "won");
    assert_eq!(browser.value("document.querySelector('.count').textContent"), "0 clips of 30");
    assert_eq!(browser.value("document.querySelector('.detail').textContent"), "No clip fits what is asked for.");
    choose(&mut browser, "Result", "");
    choose(&mut browser, "Slice", "0 1");
    assert_eq!(browser.value("document.querySelector('.count').textContent"), "15 clips of 30", "desk");
    choose(&mut browser, "Slice", "");

    // The keyboard goes from clip to clip, and a click on a word plays that word.
    browser.value("document.querySelector('.list').focus()");
    browser.press("End");
    assert_eq!(browser.value("document.querySelector('.detail h3').textContent"), "call-29");
    browser.press("Home");
    browser.press("ArrowDown");
    assert_eq!(browser.value("document.querySelector('.detail h3').textContent"), "call-1");
    let active = "document.getElementById(document.activeElement.getAttribute('aria-activedescendant')).textContent";
    assert!(browser.value(active).as_str().unwrap().starts_with("call-1"));
    browser.wait("document.querySelector('.detail audio').readyState >= 1");
    browser.value("document.querySelectorAll('.detail .thread')[0].children[2].click()");
    // "pylon" lies from 1.0 to 1.45 s.
    browser.wait("document.querySelector('.detail audio').currentTime > 0.9");
    browser.wait("document.querySelector('.detail audio').paused");
    let stopped = browser.value("document.querySelector('.detail audio').currentTime").as_f64().unwrap();
    assert!((1.5..1.9).contains(&stopped), "it played on to {stopped}");
    let picture =
        "[...document.querySelectorAll('.detail button')].find((b) => b.textContent.startsWith('Waveform')).click()";
    browser.value(picture);
    browser.wait("document.querySelector('.sound p').textContent.includes('of 2.00 s')");
    // The tone of 16,000 × 0.07 / 2π = 178 Hz stands in the lowest bands, and nothing far above it.
    let inked = "((share) => { const canvas = document.querySelector('.picture'); const pen = canvas.getContext('2d');
        const [r, g, b] = pen.getImageData(canvas.width / 2, 64 + Math.round(128 * share), 1, 1).data; return r + g + b; })";
    let (low, high) = (browser.value(&format!("{inked}(0.97)")), browser.value(&format!("{inked}(0.3)")));
    assert!(low.as_f64().unwrap() + 200.0 < high.as_f64().unwrap(), "ink at 240 Hz: {low}, at 5.6 kHz: {high}");

    // A long text folds, and unfolds where one asks.
    choose(&mut browser, "Search", "call-7");
    assert_eq!(browser.value("document.querySelectorAll('.detail .thread button.folded').length"), 2);
    browser.value("document.querySelector('.detail .thread button.folded').click()");
    assert_eq!(browser.value("document.querySelectorAll('.detail .thread')[0].children.length"), 160);
    browser.value("document.querySelector('th button').click()");
    assert_eq!(browser.value("document.querySelector('th:has(button)').getAttribute('aria-sort')"), "descending");
    assert!(browser.complaints.is_empty(), "{:?}", browser.complaints);
}

#[test]
fn keys_work_from_anywhere_and_an_address_names_what_is_shown() {
    if !program_is_there("chromium") {
        return;
    }
    let folder = explored();
    folder.fonex(&["report", "1", "-o", "r.html"]).expect(0);
    let path = folder.path().join("r.html");
    let mut browser = Browser::open(&path, "");
    ready(&mut browser);
    let clip = "document.querySelector('.detail h3').textContent";
    assert_eq!(browser.value("location.hash"), "", "what the page shows by itself needs no address");
    browser.press("j");
    browser.press("j");
    browser.press("k");
    let second = browser.value(clip);
    assert_eq!(browser.value("document.querySelector('[aria-selected=true]').dataset.at"), "1");
    assert_eq!(browser.value("location.hash"), format!("#clip={}", second.as_str().unwrap()));
    browser.press("/");
    assert_eq!(browser.value("document.activeElement.type"), "search");
    browser.press("j");
    assert_eq!(browser.value("document.activeElement.value"), "j", "a letter in a field is a letter");
    browser.press("Escape");
    assert_eq!(browser.value("document.activeElement.className"), "list");
    choose(&mut browser, "Search", "");
    browser.value("document.activeElement.blur()");
    browser.press("c");
    assert_eq!(browser.value("document.activeElement.className"), "list");
    // What is chosen can be sent.
    choose(&mut browser, "Slice", "0 1");
    choose(&mut browser, "Result", "wrong");
    let address = browser.value("location.hash").as_str().unwrap().to_owned();
    let (open, count) = (browser.value(clip), browser.value("document.querySelector('.count').textContent"));
    assert!(address.contains("&slice=channel%3D") && address.contains("&result=wrong"), "{address}");
    let mut other = Browser::open(&path, &address);
    ready(&mut other);
    assert_eq!(other.value(clip), open);
    assert_eq!(other.value("document.querySelector('.count').textContent"), count);
    // A finding leads to its clips, and a part of the page opens where a link leads into it.
    let link = "document.querySelector('a.clips')";
    if other.value(&format!("!!{link}")) == true {
        other.value(&format!("{link}.click()"));
        other.wait("document.querySelector('.asked').textContent && location.hash.startsWith('#clip')");
    }
    assert_eq!(other.value("document.querySelector('#measures').closest('details').open"), false);
    other.value("document.querySelector('nav a[href=\"#measures\"]').click()");
    other.wait("document.querySelector('#measures').closest('details').open");
    other.value("dispatchEvent(new Event('beforeprint'))");
    assert_eq!(other.value("[...document.querySelectorAll('details.fold')].every((d) => d.open)"), true);
    other.value("dispatchEvent(new Event('afterprint'))");
    assert_eq!(other.value("[...document.querySelectorAll('details.fold')].filter((d) => d.open).length"), 1);
    for address in ["#clip=%E0%A4", "#clip=nobody&slice=moon=1&first=&kind=x", "#clips&slice", "#nothing"] {
        let mut broken = Browser::open(&path, address);
        ready(&mut broken);
        assert!(broken.complaints.is_empty(), "{address}: {:?}", broken.complaints);
    }
    assert!(browser.complaints.is_empty() && other.complaints.is_empty(), "{:?}", browser.complaints);
}

#[test]
fn nothing_that_others_wrote_runs_and_everyone_can_read_it() {
    if !program_is_there("chromium") {
        return;
    }
    let folder = explored();
    folder.fonex(&["report", "1", "-o", "r.html", "--sound", "linked"]).expect(0).says(&["copied into r-sound"]);
    let mut browser = Browser::open(&folder.path().join("r.html"), "");
    ready(&mut browser);
    for at in 0..30 {
        choose(&mut browser, "Search", &format!("call-{at} "));
        browser.value("document.querySelectorAll('.detail details').forEach((d) => { d.open = true; })");
    }
    choose(&mut browser, "Search", "window.hacked=1");
    assert_eq!(shown(&mut browser), ["call-5"]);
    assert!(browser.value("document.querySelector('.detail').textContent").as_str().unwrap().contains("onerror"));
    assert_eq!(
        browser.value("[document.scripts.length, document.images.length, window.hacked ?? 0]"),
        json!([2, 0, 0])
    );
    // What slips in all the same does not run: the policy has only the page's own program.
    browser.value(
        "(() => { const box = document.createElement('div'); box.innerHTML = '<img src=x onerror=\"window.hacked=3\">';
           const own = document.createElement('script'); own.textContent = 'window.hacked=4'; document.body.append(box, own);
           box.remove(); own.remove(); })()",
    );
    assert_eq!(browser.value("window.hacked ?? 0"), 0);
    browser.complaints.clear();
    // A sound beside the page plays, and why it cannot be pictured from a file is said.
    browser.wait("document.querySelector('.detail audio').readyState >= 1");
    browser.value(
        "[...document.querySelectorAll('.detail button')].find((b) => b.textContent.startsWith('Waveform')).click()",
    );
    browser.wait("document.querySelector('.sound p').textContent.includes('opened from a file')");
    for (width, dark) in [(1_280, false), (1_280, true), (400, false)] {
        browser.looks(width, dark);
        browser.accessible();
    }
    // Without scripts the page reads as it stands; on paper too.
    let still = "getComputedStyle(document.querySelector('.still')).display";
    assert_eq!(browser.value(still), "none");
    browser.call("Emulation.setEmulatedMedia", json!({ "media": "print" }));
    assert_eq!(
        browser.value(&format!("[{still}, getComputedStyle(document.getElementById('browser')).display]")),
        json!(["block", "none"])
    );
    browser.call("Emulation.setEmulatedMedia", json!({ "media": "" }));
    browser.call("Emulation.setScriptExecutionDisabled", json!({ "value": true }));
    browser.call("Page.reload", json!({}));
    browser.wait("document.readyState === 'complete' && !document.documentElement.classList.contains('alive')");
    assert_eq!(browser.value(still), "block");
    assert!(browser.value("document.querySelectorAll('.card audio').length").as_u64().unwrap() > 3);
    browser.accessible();
}

#[test]
fn a_report_says_what_it_leaves_out() {
    let folder = explored();
    folder.fonex(&["report", "1", "-o", "r.html", "--sound", "none", "--clips", "4"]).expect(0);
    let page = folder.read("r.html");
    assert!(!page.contains("<audio") && page.contains("\"left_out\":26") && page.contains("\"sounds\":[]"));
    folder.fonex(&["report", "1", "-o", "r.html", "--clips", "0"]).expect(0);
    assert!(!folder.read("r.html").contains("id=\"book\""));
    folder.fonex(&["report", "1", "-o", "r.html", "--sound", "loud"]).expect(2).says(&["embedded"]);
    folder.fonex(&["report", "1", "-o", "nowhere/r.html"]).expect(2).says(&["nowhere/r.html", "cannot write"]);
    folder.fonex(&["report", "2"]).expect(2).says(&["no run"]);
    // What browsers do not play is told, not dropped in silence.
    let aiff = folder.path().join("audio/any.aiff");
    std::fs::rename(folder.path().join("audio/any.wav"), aiff).unwrap();
    let labels = folder.read("corpus.jsonl").replace("any.wav", "any.aiff");
    folder.write("corpus.jsonl", labels);
    folder.fonex(&["run", "p", "--label", "aiff"]).expect(3);
    folder.fonex(&["report", "aiff", "-o", "r.html"]).expect(0).says(&["1 sound left out", "browsers play"]);
}
