//! Text in our own charts as outlines, so that a picture needs no font and no text layout to be drawn.

use std::fmt::Write as _;

use resvg::usvg::roxmltree::{Document, Node};
use ttf_parser::{Face, GlyphId, OutlineBuilder};

use crate::png::PngError;

/// Inter, SIL Open Font License; see `fonts/OFL.txt`.
const FONT: &[u8] = include_bytes!("../fonts/Inter-Regular.subset.otf");

/// Replaces every `<text>` of a chart by a `<path>` of its letters, one after the other without kerning.
pub(crate) fn outline_text(svg: &str) -> Result<String, PngError> {
    let document = Document::parse(svg).map_err(|error| PngError::Svg(error.to_string()))?;
    let face = Face::parse(FONT, 0).expect("the embedded font is whole");
    let mut outlined = String::with_capacity(svg.len() * 2);
    let mut written = 0;
    for text in document.descendants().filter(|node| node.has_tag_name("text")) {
        let range = text.range();
        outlined.push_str(&svg[written..range.start]);
        outlined.push_str(&path_of(&face, text));
        written = range.end;
    }
    outlined.push_str(&svg[written..]);
    Ok(outlined)
}

fn path_of(face: &Face<'_>, text: Node<'_, '_>) -> String {
    let number = |name: &str| text.attribute(name).and_then(|value| value.parse::<f32>().ok()).unwrap_or(0.0);
    let words = text.text().unwrap_or_default().trim();
    let scale = number("font-size") / f32::from(face.units_per_em());
    let glyphs: Vec<GlyphId> = words.chars().map(|c| face.glyph_index(c).unwrap_or_default()).collect();
    let advance = |glyph: &GlyphId| f32::from(face.glyph_hor_advance(*glyph).unwrap_or(0)) * scale;
    let width: f32 = glyphs.iter().map(advance).sum();
    let mut x = number("x")
        - match text.attribute("text-anchor") {
            Some("middle") => width / 2.0,
            Some("end") => width,
            _ => 0.0,
        };
    let y = number("y") + baseline_shift(face, text.attribute("dy").unwrap_or("0")) * scale;
    let mut path = Path { data: String::new(), x, y, scale };
    for glyph in &glyphs {
        path.x = x;
        face.outline_glyph(*glyph, &mut path);
        x += advance(glyph);
    }
    format!("<path d=\"{}\" fill=\"{}\"/>", path.data, text.attribute("fill").unwrap_or("#000"))
}

/// How far the baseline lies below the anchor, in font units: `0.5ex`, `0.76em` or a plain number.
fn baseline_shift(face: &Face<'_>, dy: &str) -> f32 {
    let units = |unit: &str| dy.strip_suffix(unit).and_then(|number| number.parse::<f32>().ok());
    let x_height = f32::from(face.x_height().unwrap_or(1000));
    units("ex")
        .map(|n| n * x_height)
        .or_else(|| units("em").map(|n| n * f32::from(face.units_per_em())))
        .unwrap_or(0.0)
}

/// Path data in picture coordinates: fonts count upwards, pictures downwards.
struct Path {
    data: String,
    x: f32,
    y: f32,
    scale: f32,
}

impl Path {
    fn push(&mut self, command: char, points: &[(f32, f32)]) {
        self.data.push(command);
        for (x, y) in points {
            write!(self.data, "{:.2} {:.2} ", self.x + x * self.scale, self.y - y * self.scale)
                .expect("a text in memory can be written");
        }
    }
}

impl OutlineBuilder for Path {
    fn move_to(&mut self, x: f32, y: f32) {
        self.push('M', &[(x, y)]);
    }

    fn line_to(&mut self, x: f32, y: f32) {
        self.push('L', &[(x, y)]);
    }

    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        self.push('Q', &[(x1, y1), (x, y)]);
    }

    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        self.push('C', &[(x1, y1), (x2, y2), (x, y)]);
    }

    fn close(&mut self) {
        self.data.push('Z');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_becomes_paths_at_its_anchor() {
        let chart = |anchor: &str| {
            format!(
                "<svg xmlns=\"http://www.w3.org/2000/svg\"><text x=\"100\" y=\"50\" text-anchor=\"{anchor}\" font-size=\"20\" fill=\"#123456\">\nll &amp; l\n</text></svg>"
            )
        };
        let first_x = |anchor: &str| -> f32 {
            let svg = outline_text(&chart(anchor)).unwrap();
            assert!(!svg.contains("<text") && svg.contains("fill=\"#123456\"") && svg.ends_with("</svg>"));
            svg.split("d=\"M").nth(1).unwrap().split(' ').next().unwrap().parse().unwrap()
        };
        let (start, middle, end) = (first_x("start"), first_x("middle"), first_x("end"));
        assert!(
            (start - middle - (middle - end)).abs() < 0.05 && start > 100.0 && end < 100.0,
            "{start} {middle} {end}"
        );
        assert!(outline_text("<svg").is_err());
    }
}
