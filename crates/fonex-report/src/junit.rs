//! JUnit XML, which every CI system shows.

use quick_xml::Writer;
use quick_xml::events::{BytesText, Event};

/// One thing that was checked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Case {
    /// What it belongs to.
    pub group: String,
    /// Its name.
    pub name: String,
    /// How it ended.
    pub ended: Ended,
    /// What is to be read beside it.
    pub text: String,
}

/// How a check ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ended {
    /// It passed.
    Passed,
    /// It failed: of which kind, and why in a line.
    Failed(&'static str, String),
    /// It was left open, and does not count: why in a line.
    Skipped(String),
}

/// A suite of checks: what was checked, when that began, and how long it took.
#[derive(Debug, Clone, PartialEq)]
pub struct Suite {
    /// Its name.
    pub name: String,
    /// RFC 3339, in UTC.
    pub began: String,
    /// Seconds; none where it has not ended.
    pub took_s: Option<f64>,
}

/// A suite of checks as JUnit XML. The checks themselves take no time. What XML cannot hold, such as control characters, is replaced.
///
/// # Errors
/// When memory runs out; a writer to memory does not fail otherwise.
pub fn junit(suite: &Suite, cases: &[Case]) -> std::io::Result<String> {
    let count = |of: fn(&Ended) -> bool| cases.iter().filter(|case| of(&case.ended)).count().to_string();
    let failures = count(|ended| matches!(ended, Ended::Failed(..)));
    let skipped = count(|ended| matches!(ended, Ended::Skipped(_)));
    let tests = cases.len().to_string();
    let mut writer = Writer::new_with_indent(Vec::new(), b' ', 2);
    writer.write_event(Event::Decl(quick_xml::events::BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let name = plain(&suite.name);
    // The schema has no place for a time zone; the time is in UTC.
    let began = plain(suite.began.trim_end_matches('Z'));
    let took = format!("{:.3}", suite.took_s.unwrap_or(0.0));
    writer
        .create_element("testsuite")
        .with_attributes([
            ("name", name.as_str()),
            ("timestamp", &began),
            ("time", &took),
            ("tests", &tests),
            ("failures", &failures),
            ("errors", "0"),
            ("skipped", &skipped),
        ])
        .write_inner_content(|writer| cases.iter().try_for_each(|case| write_case(writer, case)))?;
    let mut text = String::from_utf8_lossy(&writer.into_inner()).into_owned();
    text.push('\n');
    Ok(text)
}

fn write_case(writer: &mut Writer<Vec<u8>>, case: &Case) -> std::io::Result<()> {
    let (group, name, text) = (plain(&case.group), plain(&case.name), plain(&case.text));
    let attributes = [("classname", group.as_str()), ("name", &name), ("time", "0.000")];
    let element = writer.create_element("testcase").with_attributes(attributes);
    element.write_inner_content(|writer| {
        match &case.ended {
            Ended::Passed => {}
            Ended::Failed(kind, why) => {
                let why = plain(why);
                let failure = writer.create_element("failure").with_attributes([("type", *kind), ("message", &why)]);
                failure.write_text_content(BytesText::new(&why))?;
            }
            Ended::Skipped(why) => {
                writer.create_element("skipped").with_attribute(("message", plain(why).as_str())).write_empty()?;
            }
        }
        writer.create_element("system-out").write_text_content(BytesText::new(&text))?;
        Ok(())
    })?;
    Ok(())
}

/// The characters that XML 1.0 may hold; others are shown as a replacement character.
fn plain(text: &str) -> String {
    let held = |c: char| matches!(c, '\t' | '\n' | '\r' | ' '..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..);
    text.chars().map(|c| if held(c) { c } else { '\u{fffd}' }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hostile_names_stay_text() {
        let case = |ended| Case {
            group: "a\"b<c>&\u{0}\u{1b}[31m".to_owned(),
            name: "x'\u{ffff}".to_owned(),
            ended,
            text: "]]></testcase>".to_owned(),
        };
        let cases = [
            case(Ended::Passed),
            case(Ended::Failed("undecided", "1 < 2 & \"3\"\nnext".to_owned())),
            case(Ended::Skipped("\u{8}".to_owned())),
        ];
        let suite = Suite { name: "gate".into(), began: "2026-12-01T13:47:00Z".into(), took_s: Some(61.5) };
        let xml = junit(&suite, &cases).unwrap();
        let document = roxmltree::Document::parse(&xml).unwrap();
        let root = document.root_element();
        assert_eq!(
            ["timestamp", "time"].map(|name| root.attribute(name).unwrap()),
            ["2026-12-01T13:47:00", "61.500"]
        );
        let counts = ["tests", "failures", "errors", "skipped"].map(|name| root.attribute(name).unwrap());
        assert_eq!(counts, ["3", "1", "0", "1"]);
        let names: Vec<&str> = root.children().filter_map(|case| case.attribute("classname")).collect();
        assert_eq!(names, ["a\"b<c>&\u{fffd}\u{fffd}[31m"; 3]);
        let failure = root.descendants().find(|node| node.has_tag_name("failure")).unwrap();
        assert_eq!(failure.text(), Some("1 < 2 & \"3\"\nnext"));
        let texts = root.descendants().filter(|node| node.has_tag_name("system-out"));
        assert!(texts.into_iter().all(|node| node.text() == Some("]]></testcase>")));
    }
}
