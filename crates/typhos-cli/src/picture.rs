//! Charts of groups as pictures (SVG), for documents and pages: axes with round numbers, names that can be read, colours that show on
//! dark and on light and to eyes that see few of them.

use plotters::coord::ranged1d::{KeyPointHint, NoDefaultFormatting, Ranged, ValueFormatter};
use plotters::prelude::*;

use crate::chart::{ChartKind, Point, axis_number, round_step};
use crate::table::cut;

const SIZE: (u32, u32) = (960, 540);

/// A blue-green of middling lightness, and a grey: both stand out from white and from black.
const MARK: RGBColor = RGBColor(0x1f, 0x8a, 0x91);
const INK: RGBColor = RGBColor(0x7a, 0x86, 0x8c);

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
        axis_number(*value)
    }
}

/// Draws groups under a title.
///
/// # Errors
/// What keeps it from being drawn, in a sentence.
pub fn svg(kind: ChartKind, title: &str, points: &[Point]) -> Result<String, String> {
    if points.iter().all(|point| point.value.is_none_or(|value| !value.is_finite())) {
        return Err("no group has a value to draw".into());
    }
    let mut text = String::new();
    {
        let area = SVGBackend::with_string(&mut text, SIZE).into_drawing_area();
        draw(kind, title, points, &area).map_err(|error| error.to_string())?;
        area.present().map_err(|error| error.to_string())?;
    }
    // Who does not see it hears what it is.
    let named = format!("<svg role=\"img\" aria-label=\"{}\" ", escaped(title));
    Ok(text.replacen("<svg ", &named, 1))
}

fn escaped(text: &str) -> String {
    let text = text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    text.replace('"', "&quot;")
}

fn draw(
    kind: ChartKind,
    title: &str,
    points: &[Point],
    area: &DrawingArea<SVGBackend<'_>, plotters::coord::Shift>,
) -> Result<(), Box<dyn std::error::Error>> {
    let style = |size: i32| ("sans-serif", size).into_font().color(&INK);
    let count = points.len();
    // Groups stand side by side, each one wide, its middle at its number.
    let across = -0.5f64..count as f64 - 0.5;
    let mut chart = ChartBuilder::on(area)
        .caption(cut(title, 80), style(22))
        .margin(18)
        .x_label_area_size(56)
        .y_label_area_size(64)
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
        .bold_line_style(INK.mix(0.25))
        .axis_style(INK)
        .x_labels(count.clamp(2, MOST_LABELS))
        .x_label_formatter(&name)
        .label_style(style(14))
        .draw()?;
    let there = points.iter().enumerate();
    let there = there.filter_map(|(at, point)| Some((at as f64, point.value?)));
    match kind {
        ChartKind::Line => {
            let line = LineSeries::new(there.clone(), MARK.stroke_width(3));
            chart.draw_series(line)?;
            if count <= 60 {
                let dots = there.map(|(x, y)| Circle::new((x, y), 4, MARK.filled()));
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

    #[test]
    fn pictures_have_their_names_and_axes_and_no_script() {
        let point = |label: &str, value| Point { label: label.into(), text: String::new(), value };
        let points =
            [point("<b>Holm", Some(1200.0)), point("Auk", None), point("Tern", Some(-300.0))];
        for kind in [ChartKind::Bar, ChartKind::Line, ChartKind::Histogram] {
            let drawn = svg(kind, "count by \"route\" <x>", &points).unwrap();
            assert!(drawn.starts_with(
                "<svg role=\"img\" aria-label=\"count by &quot;route&quot; &lt;x&gt;\""
            ));
            assert!(drawn.contains("&lt;b&gt;Holm") && !drawn.contains("<b>"), "{drawn}");
            assert!(drawn.contains("1000") && drawn.contains("-500"), "{drawn}");
        }
        assert!(svg(ChartKind::Bar, "x", &points[1..2]).is_err());
    }
}
