//! Charts of groups in a terminal: bars, a line, a histogram. Blocks and dots of Unicode, so that they can be piped and pasted.

use clap::ValueEnum;
use unicode_width::UnicodeWidthStr;

use crate::console::{DIM, FOUND, paint, safe};
use crate::table::cut;

/// What is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ChartKind {
    /// A bar for each group
    Bar,
    /// A line from group to group, in their order
    Line,
    /// Columns side by side, in the order of the groups
    Histogram,
}

/// A group: what it is called, its value as it is shown, and as a number.
pub struct Point {
    pub label: String,
    pub text: String,
    pub value: Option<f64>,
}

/// The most characters of a label.
const MOST_LABEL: usize = 28;

/// The most columns of a bar: longer ones are not compared better.
const MOST_BAR: usize = 64;

/// Lines of a chart with an axis below.
const HEIGHT: usize = 12;

/// Columns of a chart where nobody says how many there are.
const USUAL_WIDTH: usize = 100;

/// Draws groups into so many columns.
pub fn draw(kind: ChartKind, points: &[Point], width: Option<usize>) -> String {
    let width = width.unwrap_or(USUAL_WIDTH).max(40);
    if points.iter().all(|point| point.value.is_none_or(|value| !value.is_finite())) {
        return paint(DIM, "  nothing to draw: no group has a value");
    }
    match kind {
        ChartKind::Bar => bars(points, width),
        ChartKind::Line | ChartKind::Histogram => over_axis(kind, points, width),
    }
}

/// The least and greatest value, with zero between them or at an end.
fn extent(points: &[Point]) -> (f64, f64) {
    let values = points.iter().filter_map(|point| point.value).filter(|value| value.is_finite());
    values.fold((0.0, 0.0), |(least, most): (f64, f64), value| (least.min(value), most.max(value)))
}

fn bars(points: &[Point], width: usize) -> String {
    let label = |point: &Point| cut(&safe(&point.label), MOST_LABEL);
    let labels: Vec<String> = points.iter().map(label).collect();
    let widest = |texts: &mut dyn Iterator<Item = usize>| texts.max().unwrap_or(0);
    let label_width = widest(&mut labels.iter().map(|label| label.width()));
    let text_width = widest(&mut points.iter().map(|point| point.text.width()));
    let room = width.saturating_sub(label_width + text_width + 6).clamp(10, MOST_BAR);
    let (least, most) = extent(points);
    let span = if most > least { most - least } else { 1.0 };
    // Eighths of a column on each side of zero.
    let eighths = |value: f64| (value.abs() / span * room as f64 * 8.0).round() as usize;
    let left = eighths(least).div_ceil(8);
    let lines = points.iter().zip(&labels).map(|(point, label)| {
        let value = point.value.filter(|value| value.is_finite()).unwrap_or(0.0);
        let bar = match value < 0.0 {
            true => {
                let filled = eighths(value).div_ceil(8).min(left);
                format!("{}{}", " ".repeat(left - filled), "█".repeat(filled))
            }
            false => format!("{}{}", " ".repeat(left), block_bar(eighths(value))),
        };
        // Something is not nothing.
        let bar = if value > 0.0 && eighths(value) == 0 { format!("{bar}▏") } else { bar };
        let pad = " ".repeat(label_width - label.width());
        let text = format!("{}{}", " ".repeat(text_width - point.text.width()), point.text);
        match bar.is_empty() {
            true => format!("  {label}{pad}  {}", paint(DIM, text)),
            false => format!("  {label}{pad}  {}  {}", paint(DIM, text), paint(FOUND, bar)),
        }
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// A bar of so many eighths of a column.
fn block_bar(eighths: usize) -> String {
    const PARTS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    format!("{}{}", "█".repeat(eighths / 8), PARTS[eighths % 8])
}

/// A step of 1, 2 or 5 times a power of ten that goes about so often into a span.
pub fn round_step(span: f64, times: f64) -> f64 {
    let raw = span / times;
    let power = 10f64.powf(raw.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().find(|step| step * power >= raw * 0.999);
    step.unwrap_or(10.0) * power
}

/// A number of an axis, in few digits.
pub fn axis_number(value: f64) -> String {
    let (size, unit) = match value.abs() {
        size if size >= 1e12 => return format!("{value:.2e}"),
        size if size >= 1e9 => (1e9, " G"),
        size if size >= 1e6 => (1e6, " M"),
        size if size >= 1e4 => (1e3, " k"),
        _ => (1.0, ""),
    };
    let text = format!("{:.3}", value / size);
    let text = text.trim_end_matches('0').trim_end_matches('.');
    format!("{}{unit}", if text == "-0" { "0" } else { text })
}

fn over_axis(kind: ChartKind, points: &[Point], width: usize) -> String {
    let (least, most) = extent(points);
    let step = round_step((most - least).max(f64::MIN_POSITIVE), 4.0);
    let (bottom, top) = ((least / step).floor() * step, (most / step).ceil() * step);
    let ticks: Vec<f64> = (0..=((top - bottom) / step).round() as usize)
        .map(|tick| bottom + tick as f64 * step)
        .collect();
    let axis_width = ticks.iter().map(|tick| axis_number(*tick).width()).max().unwrap_or(0);
    let room = width.saturating_sub(axis_width + 6).max(10);
    let place = |value: f64, parts: usize| {
        ((value - bottom) / (top - bottom).max(f64::MIN_POSITIVE) * parts as f64).round() as usize
    };
    let (cells, used) = match kind {
        ChartKind::Line => line_cells(points, room, &place),
        _ => column_cells(points, room, &place, bottom),
    };
    let mut lines = Vec::new();
    for (row, cells) in cells.iter().enumerate() {
        let here = HEIGHT - 1 - row;
        // The tick that is at the upper edge of this line; the lowest is at the axis.
        let tick = ticks.iter().find(|tick| place(**tick, HEIGHT) == here + 1);
        let name = tick.map_or(String::new(), |tick| axis_number(*tick));
        let pad = " ".repeat(axis_width - name.width());
        let side = if tick.is_some() { "┤" } else { "│" };
        lines.push(format!(
            "  {}{}",
            paint(DIM, format!("{pad}{name} {side}")),
            paint(FOUND, cells)
        ));
    }
    let name = axis_number(bottom);
    let pad = " ".repeat(axis_width - name.width());
    lines.push(paint(DIM, format!("  {pad}{name} └{}", "─".repeat(used))));
    let pad = " ".repeat(axis_width + 1);
    lines.push(format!("  {pad} {}", paint(DIM, ends(points, used))));
    lines.iter().map(|line| line.trim_end().to_owned()).collect::<Vec<_>>().join("\n")
}

/// What the first and the last group are called, below their places.
fn ends(points: &[Point], used: usize) -> String {
    let name = |point: Option<&Point>| {
        point.map_or(String::new(), |point| cut(&safe(&point.label), MOST_LABEL))
    };
    let (first, last) = (name(points.first()), name(points.last()));
    if points.len() < 2 {
        return first;
    }
    let gap = used.saturating_sub(first.width() + last.width()).max(2);
    format!("{first}{}{last}", " ".repeat(gap))
}

/// Columns of blocks: each group has as many cells as there is room for. Where there are more groups than cells, a cell shows the
/// greatest of those that are in it.
fn column_cells(
    points: &[Point],
    room: usize,
    place: &dyn Fn(f64, usize) -> usize,
    bottom: f64,
) -> (Vec<String>, usize) {
    const PARTS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let wide = (room / points.len().max(1)).clamp(1, 6);
    let count = points.len().min(room);
    let heights: Vec<usize> = (0..count)
        .map(|cell| {
            let from = cell * points.len() / count;
            let until = ((cell + 1) * points.len() / count).max(from + 1);
            let values = points[from..until].iter().filter_map(|point| point.value);
            let value = values.filter(|value| value.is_finite()).fold(bottom, f64::max);
            place(value, HEIGHT * 8)
        })
        .collect();
    let rows = (0..HEIGHT).rev().map(|row| {
        let cell = |height: &usize| {
            let block = PARTS[height.saturating_sub(row * 8).min(8)];
            // A narrow gap between wide columns.
            match wide {
                1 => block.to_string(),
                wide => format!("{} ", block.to_string().repeat(wide - 1)),
            }
        };
        heights.iter().map(cell).collect::<String>()
    });
    (rows.collect(), count * wide)
}

/// A line of dots, two by four in a cell.
fn line_cells(
    points: &[Point],
    room: usize,
    place: &dyn Fn(f64, usize) -> usize,
) -> (Vec<String>, usize) {
    let (wide, high) = (room * 2, HEIGHT * 4);
    let mut dots = vec![vec![false; wide]; high];
    let last = points.len().saturating_sub(1).max(1);
    let at = |index: usize| (index * (wide - 1)).div_euclid(last);
    let mut before: Option<(usize, usize)> = None;
    for (index, point) in points.iter().enumerate() {
        let Some(value) = point.value.filter(|value| value.is_finite()) else {
            before = None;
            continue;
        };
        let here = (at(index), place(value, high - 1).min(high - 1));
        let (x, y) = before.unwrap_or(here);
        let steps = here.0.abs_diff(x).max(here.1.abs_diff(y)).max(1);
        for step in 0..=steps {
            let part = step as f64 / steps as f64;
            let between = |a: usize, b: usize| (a as f64 + (b as f64 - a as f64) * part).round();
            dots[between(y, here.1) as usize][between(x, here.0) as usize] = true;
        }
        before = Some(here);
    }
    // The dots of a cell have these bits, from its lowest row up.
    const BITS: [[u32; 2]; 4] = [[0x40, 0x80], [0x04, 0x20], [0x02, 0x10], [0x01, 0x08]];
    let cell = |row: usize, column: usize| {
        let mut bits = 0;
        for (up, pair) in BITS.iter().enumerate() {
            for (right, bit) in pair.iter().enumerate() {
                bits |= if dots[row * 4 + up][column * 2 + right] { *bit } else { 0 };
            }
        }
        if bits == 0 { ' ' } else { char::from_u32(0x2800 + bits).unwrap_or(' ') }
    };
    let rows = (0..HEIGHT).rev().map(|row| (0..room).map(|column| cell(row, column)).collect());
    (rows.collect(), room)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points(values: &[f64]) -> Vec<Point> {
        let point = |(at, value): (usize, &f64)| Point {
            label: format!("g{at}"),
            text: value.to_string(),
            value: Some(*value),
        };
        values.iter().enumerate().map(point).collect()
    }

    fn plain(kind: ChartKind, values: &[f64]) -> Vec<String> {
        let drawn = draw(kind, &points(values), Some(40));
        let text = anstream::adapter::strip_str(&drawn).to_string();
        text.lines().map(str::to_owned).collect()
    }

    #[test]
    fn bars_are_as_long_as_their_values_on_both_sides_of_zero() {
        assert_eq!(
            plain(ChartKind::Bar, &[4.0, 2.0, 0.0, 0.001]),
            [
                "  g0      4  ███████████████████████████",
                "  g1      2  █████████████▌",
                "  g2      0",
                "  g3  0.001  ▏",
            ]
        );
        let below = plain(ChartKind::Bar, &[3.0, -1.0]);
        assert_eq!(below[0].matches('█').count(), 22);
        assert_eq!(below[1].matches('█').count(), 8);
        assert!(below[1].ends_with('█') && below[0].contains("        █"), "{below:?}");
    }

    #[test]
    fn columns_and_lines_stand_over_an_axis() {
        let histogram = plain(ChartKind::Histogram, &[1.0, 2.0, 4.0]);
        assert_eq!(histogram.len(), HEIGHT + 2);
        assert!(histogram[0].starts_with("  4 ┤            █████"), "{histogram:?}");
        assert!(histogram[3].starts_with("  3 ┤"), "{histogram:?}");
        assert!(histogram[HEIGHT - 1].starts_with("    │█████ █████ █████"), "{histogram:?}");
        assert!(histogram[HEIGHT].starts_with("  0 └─────"), "{histogram:?}");
        assert!(histogram[HEIGHT + 1].trim().starts_with("g0"));
        let line = plain(ChartKind::Line, &[0.0, 1.0, 0.0]);
        assert!(line.iter().all(|line| line.width() <= 40));
        assert!(line[0].contains('⣀') || line[0].chars().any(|dot| dot > '⠀'), "{line:?}");
        assert!(draw(ChartKind::Line, &[], Some(40)).contains("nothing to draw"));
    }

    #[test]
    fn axes_have_round_numbers() {
        assert_eq!(round_step(9.0, 4.0), 5.0);
        assert_eq!(round_step(1000.0, 4.0), 500.0);
        assert_eq!(round_step(0.03, 4.0), 0.01);
        let numbers = [0.0, 12_345.0, 2_500_000.0, -0.5, 1e13].map(axis_number);
        assert_eq!(numbers, ["0", "12.345 k", "2.5 M", "-0.5", "1.00e13"]);
    }
}
