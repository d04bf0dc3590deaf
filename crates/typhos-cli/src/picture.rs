//! Charts of groups as pictures, for documents and pages: axes with round numbers, names that can be read, colours that show on
//! dark and on light and to eyes that see few of them. An SVG has no ground of its own; a PNG is on white, twice as fine.

use std::path::Path;
use std::sync::OnceLock;

use plotters::coord::Shift;
use plotters::coord::ranged1d::{KeyPointHint, NoDefaultFormatting, Ranged, ValueFormatter};
use plotters::prelude::*;
use plotters::style::{FontStyle, register_font};

use crate::chart::{ChartKind, Point, axis_number, round_step};
use crate::outcome::Failure;
use crate::table::cut;

const SIZE: (u32, u32) = (960, 540);

/// Dots of a PNG for each unit of [`SIZE`].
const FINENESS: u32 = 2;

/// A picture's file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PictureForm {
    /// Lines and texts.
    Svg,
    /// Dots.
    Png,
}

impl PictureForm {
    /// What the name of a file says; `None` where it is no picture that is drawn here.
    pub fn of(path: &Path) -> Option<PictureForm> {
        let extension = path.extension()?.to_str()?.to_ascii_lowercase();
        match &extension[..] {
            "svg" => Some(PictureForm::Svg),
            "png" => Some(PictureForm::Png),
            _ => None,
        }
    }
}

/// What stands around a picture.
#[derive(Debug, Clone, Copy)]
pub struct Names<'n> {
    /// Above it.
    pub title: &'n str,
    /// Below it: what its groups are.
    pub across: &'n str,
    /// Beside it: what is measured.
    pub up: &'n str,
}

/// Draws groups into a file, whole or not at all.
///
/// # Errors
/// What keeps it from being drawn or written.
pub fn save(
    path: &Path,
    replace: bool,
    kind: ChartKind,
    names: Names<'_>,
    points: &[Point],
) -> Result<(), Failure> {
    let content = match PictureForm::of(path) {
        Some(PictureForm::Svg) => svg(kind, names, points).map(String::into_bytes),
        Some(PictureForm::Png) => png(kind, names, points),
        None => Err(format!(
            "'{}' is not a picture that is drawn here: name a FILE.svg or a FILE.png",
            path.display()
        )),
    };
    typhos_load::write_file(path, replace, &content.map_err(Failure::Usage)?)?;
    Ok(())
}

/// A blue-green of middling lightness, and a grey: both stand out from white and from black.
const MARK: RGBColor = RGBColor(0x1f, 0x8a, 0x91);
const INK: RGBColor = RGBColor(0x7a, 0x86, 0x8c);

/// The grey of what is on white.
const DARK_INK: RGBColor = RGBColor(0x45, 0x50, 0x58);

/// The most characters of a name below an axis.
const MOST_LABEL: usize = 18;

/// The most names below an axis.
const MOST_LABELS: usize = 12;

/// Values from one to another, with a line at each round number between them.
struct Rounded {
    low: f64,
    high: f64,
    step: f64,
}

impl Rounded {
    fn over(points: &[Point]) -> Rounded {
        let values = points.iter().filter_map(|point| point.value).filter(|it| it.is_finite());
        let (low, high) = values
            .fold((0.0, 0.0), |(low, high): (f64, f64), value| (low.min(value), high.max(value)));
        let step = round_step(if high > low { high - low } else { 1.0 }, 5.0);
        let high = (high / step).ceil() * step;
        Rounded {
            low: (low / step).floor() * step,
            high: if high > low { high } else { step },
            step,
        }
    }
}

impl Ranged for Rounded {
    type FormatOption = NoDefaultFormatting;
    type ValueType = f64;

    fn map(&self, value: &f64, limit: (i32, i32)) -> i32 {
        let part = (value - self.low) / (self.high - self.low);
        limit.0 + (part * f64::from(limit.1 - limit.0)).round() as i32
    }

    fn key_points<Hint: KeyPointHint>(&self, _: Hint) -> Vec<f64> {
        let count = ((self.high - self.low) / self.step).round() as usize;
        (0..=count).map(|at| self.low + at as f64 * self.step).collect()
    }

    fn range(&self) -> std::ops::Range<f64> {
        self.low..self.high
    }
}

impl ValueFormatter<f64> for Rounded {
    fn format_ext(&self, value: &f64) -> String {
        // All in the unit of the farthest, so that they can be compared.
        let most = self.high.max(-self.low);
        match axis_number(most).split_once(' ') {
            Some((number, unit)) if *value != 0.0 => {
                let size = most / number.parse::<f64>().unwrap_or(most);
                format!("{} {unit}", axis_number(value / size))
            }
            _ => axis_number(*value),
        }
    }
}

/// Sees to it that texts can be measured and, in dots, drawn. The letters come with the program: a server may have none.
fn with_letters() -> Result<(), String> {
    static REGISTERED: OnceLock<bool> = OnceLock::new();
    let register = || {
        let letters = epaint_default_fonts::UBUNTU_LIGHT;
        register_font("sans-serif", FontStyle::Normal, letters).is_ok()
    };
    match REGISTERED.get_or_init(register) {
        true => Ok(()),
        false => Err("the letters of the program cannot be read".into()),
    }
}

fn refuse_nothing(points: &[Point]) -> Result<(), String> {
    match points.iter().any(|point| point.value.is_some_and(f64::is_finite)) {
        true => Ok(()),
        false => Err("no group has a value to draw".into()),
    }
}

/// Draws groups as an SVG.
fn svg(kind: ChartKind, names: Names<'_>, points: &[Point]) -> Result<String, String> {
    refuse_nothing(points)?;
    with_letters()?;
    let mut text = String::new();
    {
        let area = SVGBackend::with_string(&mut text, SIZE).into_drawing_area();
        draw(kind, names, points, &area, INK, 1).map_err(|error| error.to_string())?;
        area.present().map_err(|error| error.to_string())?;
    }
    // Who does not see it hears what it is.
    let named = format!("<svg role=\"img\" aria-label=\"{}\" ", escaped(names.title));
    Ok(text.replacen("<svg ", &named, 1))
}

/// The same as a PNG.
fn png(kind: ChartKind, names: Names<'_>, points: &[Point]) -> Result<Vec<u8>, String> {
    refuse_nothing(points)?;
    with_letters()?;
    let (width, height) = (SIZE.0 * FINENESS, SIZE.1 * FINENESS);
    let mut dots = vec![0xff; (width * height * 3) as usize];
    {
        let area = BitMapBackend::with_buffer(&mut dots, (width, height)).into_drawing_area();
        draw(kind, names, points, &area, DARK_INK, FINENESS as i32)
            .map_err(|error| error.to_string())?;
        area.present().map_err(|error| error.to_string())?;
    }
    let mut file = Vec::new();
    let mut encoder = png::Encoder::new(&mut file, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let written = encoder
        .add_itxt_chunk("Title".into(), names.title.to_owned())
        .and_then(|()| encoder.write_header())
        .and_then(|mut writer| {
            writer.write_image_data(&dots)?;
            writer.finish()
        });
    written.map_err(|error| error.to_string())?;
    Ok(file)
}

fn escaped(text: &str) -> String {
    let text = text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    text.replace('"', "&quot;")
}

fn draw<B: DrawingBackend>(
    kind: ChartKind,
    names: Names<'_>,
    points: &[Point],
    area: &DrawingArea<B, Shift>,
    ink: RGBColor,
    scale: i32,
) -> Result<(), Box<dyn std::error::Error>>
where
    B::ErrorType: 'static,
{
    let style = |size: i32| ("sans-serif", size * scale).into_font().color(&ink);
    let count = points.len();
    // Groups stand side by side, each one wide, its middle at its number.
    let across = -0.5f64..count as f64 - 0.5;
    let mut chart = ChartBuilder::on(area)
        .caption(cut(names.title, 80), style(22))
        .margin(18 * scale)
        .x_label_area_size(56 * scale)
        .y_label_area_size(80 * scale)
        .build_cartesian_2d(across, Rounded::over(points))?;
    let name = |place: &f64| {
        let at = place.round();
        let is_whole = (place - at).abs() < 1e-6;
        match points.get(at as usize) {
            Some(point) if is_whole && at >= 0.0 => cut(&point.label, MOST_LABEL),
            _ => String::new(),
        }
    };
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(ink.mix(0.25).stroke_width(scale as u32))
        .axis_style(ink.stroke_width(scale as u32))
        .x_labels(count.clamp(2, MOST_LABELS))
        .x_label_formatter(&name)
        .label_style(style(14))
        .axis_desc_style(style(15))
        .x_desc(cut(names.across, 80))
        .y_desc(cut(names.up, 40))
        .draw()?;
    let there = points.iter().enumerate();
    let there = there.filter_map(|(at, point)| Some((at as f64, point.value?)));
    match kind {
        ChartKind::Line => {
            let line = LineSeries::new(there.clone(), MARK.stroke_width(3 * scale as u32));
            chart.draw_series(line)?;
            if count <= 60 {
                let dots = there.map(|(x, y)| Circle::new((x, y), 4 * scale, MARK.filled()));
                chart.draw_series(dots)?;
            }
        }
        ChartKind::Bar | ChartKind::Histogram => {
            let half = if kind == ChartKind::Bar { 0.36 } else { 0.49 };
            let bars =
                there.map(|(x, y)| Rectangle::new([(x - half, 0.0), (x + half, y)], MARK.filled()));
            chart.draw_series(bars)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(title: &str) -> Names<'_> {
        Names { title, across: "the route", up: "the count" }
    }

    #[test]
    fn dots_are_of_the_colours_that_were_meant() {
        let points: Vec<Point> = [3.0, -1.0, 2.0]
            .map(|value| Point { label: "Ærø".into(), text: String::new(), value: Some(value) })
            .into();
        let names = named("fares — mean");
        let file = png(ChartKind::Bar, names, &points).unwrap();
        let mut reader = png::Decoder::new(std::io::Cursor::new(&file)).read_info().unwrap();
        assert_eq!(reader.info().utf8_text[0].get_text().unwrap(), "fares — mean");
        let mut dots = vec![0; reader.output_buffer_size().unwrap()];
        let info = reader.next_frame(&mut dots).unwrap();
        assert_eq!((info.width, info.height), (SIZE.0 * FINENESS, SIZE.1 * FINENESS));
        let of = |colour: RGBColor| {
            dots.chunks(3).filter(|dot| *dot == [colour.0, colour.1, colour.2]).count() as u32
        };
        let all = info.width * info.height;
        // Three bars, their names and an axis, and ground around them.
        assert!((all / 20..all / 2).contains(&of(MARK)), "{}", of(MARK));
        assert!(of(DARK_INK) > 500 && of(WHITE) > all / 3, "{} {}", of(DARK_INK), of(WHITE));
        assert!(png(ChartKind::Bar, names, &[]).is_err());
    }

    #[test]
    fn files_say_by_their_names_what_picture_they_are() {
        for (name, want) in [
            ("a.svg", Some(PictureForm::Svg)),
            ("a.b.PNG", Some(PictureForm::Png)),
            ("png", None),
            ("a.jpg", None),
        ] {
            assert_eq!(PictureForm::of(Path::new(name)), want, "{name}");
        }
    }

    #[test]
    fn pictures_have_their_names_and_axes_and_no_script() {
        let point = |label: &str, value| Point { label: label.into(), text: String::new(), value };
        let points =
            [point("<b>Holm", Some(1200.0)), point("Auk", None), point("Tern", Some(-300.0))];
        for kind in [ChartKind::Bar, ChartKind::Line, ChartKind::Histogram] {
            let drawn = svg(kind, named("count by \"route\" <x>"), &points).unwrap();
            assert!(drawn.starts_with(
                "<svg role=\"img\" aria-label=\"count by &quot;route&quot; &lt;x&gt;\""
            ));
            assert!(drawn.contains("&lt;b&gt;Holm") && !drawn.contains("<b>"), "{drawn}");
            assert!(drawn.contains("the route") && drawn.contains("the count"), "{drawn}");
            assert!(drawn.contains("1000") && drawn.contains("-500"), "{drawn}");
        }
        assert!(svg(ChartKind::Bar, named("x"), &points[1..2]).is_err());
    }
}
