//! Which bytes separate: the delimiter, the quote, the escape and the line ends, found together by how
//! evenly they split the records.
//!
//! Bytes that hardly ever stand in a value (control characters, tab, pipe, semicolon, comma) need only
//! split most records evenly. Those that often do (space, colon and other marks) must split all of
//! them, into values that look like ones, and lines that are values as a whole are never split by them.

use std::collections::HashMap;

use super::aligned;
use super::{Finding, Glance, SAID, Sample, delimiter_name};
use crate::dates::read_shape;
use crate::readings::trim;
use crate::records::Values;
use crate::text::{Dialect, Escape, InputChoice, LineEnds, PlainRecord, ShortRecords};
use crate::wording::counted;

/// Delimiters that are ordinary, the least likely to stand in a value first: between two that split
/// equally well, the earlier one wins (`1,5;2,5` is two fields, not three).
const ORDINARY: [u8; 8] = [0x1f, 0x1e, 0x01, 0x02, b'\t', b'|', b';', b','];

/// Delimiters that are not, and are found only where there is no doubt.
const UNUSUAL: [u8; 12] = [b'^', b'~', b':', b'!', b'$', b'%', b'&', b'*', b'=', b'@', b'#', b' '];

/// Share of records that must have the same number of fields for a delimiter to be one.
const CONSISTENT: f64 = 0.6;

/// The same for an unusual one.
const NO_DOUBT: f64 = 0.98;

/// What the reason for a delimiter starts with that splits too few records evenly.
pub(super) const ASSUMED: &str = "assumed";

/// Shares of records that differ by less are as good as equal.
const ALIKE: f64 = 0.01;

/// A way to lay out the text, and how well it does.
#[derive(Debug, Clone, Copy)]
pub(super) struct Layout {
    pub dialect: Dialect,
    /// Fields of most records, or of whole ones, where others leave some out.
    pub fields: usize,
    score: Score,
}

#[derive(Debug, Clone, Copy, Default)]
struct Score {
    /// Share of all records that have so many fields.
    share: f64,
    /// The same, of the records from the first such on.
    share_below: f64,
    /// Whether the first record is one of them.
    first_agrees: bool,
    /// Share of records that are split at all.
    split: f64,
    /// Share of values that are figures, or nothing.
    typed: f64,
    records: usize,
    /// Records that leave fields out at their end, where that is usual.
    short: usize,
    /// Records from the first such on, what may be comments left out.
    below: usize,
    broken: usize,
    /// Fields that stand in quotes; those of them that could not do without; and fields that only start
    /// with a quote. Where there are no quotes, this is about double ones.
    quoted: usize,
    needed: usize,
    with_line_ends: usize,
    /// Fields that start with an apostrophe.
    apostrophes: usize,
    half_quoted: usize,
}

/// Finds the layout of a text.
pub(super) fn find(sample: Sample<'_>, choice: &InputChoice, finding: &mut Finding) -> Layout {
    let mut layouts = Vec::new();
    for line_ends in line_ends(sample.text, choice) {
        let base = Dialect { line_ends, comment: None, ..Dialect::RFC_4180 };
        layouts.extend(candidates(sample, base, choice));
    }
    let best = choose(&layouts, sample, choice, finding);
    finding.quote = if choice.quote.is_some() { SAID.into() } else { quote_reason(&best) };
    if choice.escape.is_some() {
        finding.escape = SAID.into();
    } else if best.dialect.escape == Escape::Backslash {
        finding.escape = "backslashes stand before what would separate".into();
    }
    best
}

/// The readings of line ends that are worth a try: a CR alone can only end lines where there is one.
fn line_ends(text: &[u8], choice: &InputChoice) -> Vec<LineEnds> {
    if let Some(said) = choice.line_ends {
        return vec![said];
    }
    let lone_cr = memchr::memchr_iter(b'\r', text)
        .any(|at| text.get(at + 1).is_some_and(|next| *next != b'\n'));
    match (lone_cr, memchr::memchr(b'\n', text).is_some()) {
        (false, _) => vec![LineEnds::Lf],
        (true, false) => vec![LineEnds::Cr],
        (true, true) => vec![LineEnds::Lf, LineEnds::Mixed],
    }
}

/// One layout for each delimiter that could be one, with the quoting that suits it best.
fn candidates(sample: Sample<'_>, base: Dialect, choice: &InputChoice) -> Vec<Layout> {
    let layout = |delimiter: u8| best_quoting(sample, Dialect { delimiter, ..base }, choice);
    if let Some(said) = choice.delimiter {
        return vec![layout(said)];
    }
    let is_present = |byte: &u8| {
        Some(Some(*byte)) != choice.quote && memchr::memchr(*byte, sample.text).is_some()
    };
    let mut layouts: Vec<Layout> = ORDINARY.into_iter().filter(is_present).map(layout).collect();
    // The unusual ones are only asked where no ordinary one is sure.
    if !layouts.iter().any(|layout| layout.fields > 1 && layout.score.share >= NO_DOUBT) {
        // What comments start with does not separate.
        let mark = Some(sample.mark).filter(|_| sample.has_marks());
        let able = UNUSUAL.into_iter().filter(|byte| Some(*byte) != mark);
        layouts.extend(able.filter(is_present).map(layout));
    }
    if layouts.is_empty() {
        layouts.push(best_quoting(sample, base, choice));
    }
    layouts
}

fn best_quoting(sample: Sample<'_>, dialect: Dialect, choice: &InputChoice) -> Layout {
    let usual = Dialect { quote: Some(b'"'), escape: Escape::Doubled, ..dialect };
    let weigh = |dialect: Dialect| weigh(sample, dialect, choice);
    let usual = weigh(Dialect { escape: choice.escape.unwrap_or_default(), ..usual });
    let quotes = match choice.quote {
        Some(said) => vec![said],
        None => {
            let mut quotes = vec![Some(b'"')];
            if usual.score.apostrophes > 1 && dialect.delimiter != b'\'' {
                quotes.push(Some(b'\''));
            }
            // Stray quotes tear records, or swallow line ends.
            if usual.score.broken > 0 || usual.score.with_line_ends > 0 {
                quotes.push(None);
            }
            quotes
        }
    };
    let mut best = Some(usual).filter(|_| choice.quote.is_none());
    for quote in quotes {
        let escapes = match choice.escape {
            Some(said) => vec![said],
            None if dialect.delimiter != b'\\' && has_escapes(sample.text, quote, dialect) => {
                vec![Escape::Doubled, Escape::Backslash]
            }
            None => vec![Escape::Doubled],
        };
        for escape in escapes {
            let is_known =
                |best: Layout| (best.dialect.quote, best.dialect.escape) == (quote, escape);
            if best.is_some_and(is_known) {
                continue;
            }
            let layout = weigh(Dialect { quote, escape, ..dialect });
            if best.is_none_or(|best| quotes_better(&layout, &best)) {
                best = Some(layout);
            }
        }
    }
    best.expect("there is always a quoting to try")
}

/// Whether there is a backslash before something that it could be meant for.
fn has_escapes(text: &[u8], quote: Option<u8>, dialect: Dialect) -> bool {
    let meant = |next: u8| Some(next) == quote || next == dialect.delimiter && quote.is_none();
    memchr::memchr_iter(b'\\', text).any(|at| text.get(at + 1).is_some_and(|next| meant(*next)))
}

/// Whether a layout is better than another that has the same delimiter and is the more usual one.
fn quotes_better(layout: &Layout, usual: &Layout) -> bool {
    let (ours, theirs) = (&layout.score, &usual.score);
    let (clean, usual_clean) = (ours.clean_share(), theirs.clean_share());
    if layout.dialect.quote == Some(b'\'') {
        // An apostrophe starts many a word: it is a quote only where it always ends the field, too.
        let is_sound = ours.quoted >= 2 && ours.half_quoted == 0 && ours.broken == 0;
        return is_sound && theirs.quoted == 0 && clean >= usual_clean - ALIKE;
    }
    if layout.dialect.quote.is_none() && usual.dialect.quote.is_some() {
        // A stray quote at the start of a value is a mistake in a file that has quotes, and a letter
        // in one that has none. Tabs are the one delimiter that people use without quotes.
        let is_tab = layout.dialect.delimiter == b'\t';
        let is_strewn = ours.half_quoted >= if is_tab { 1 } else { 3 };
        // Records that leave out fields agree with anything: what quotes tore apart, too.
        let is_perfect = ours.share >= 1.0 && ours.short == 0;
        return is_strewn && (is_perfect || theirs.needed == 0 && clean > usual_clean);
    }
    clean > usual_clean + 1e-9 && ours.share >= theirs.share - ALIKE
}

impl Score {
    /// Share of records that are neither broken nor of another number of fields.
    fn clean_share(&self) -> f64 {
        self.share * self.records as f64 / (self.records + self.broken).max(1) as f64
    }
}

/// Splits the sample and counts.
fn weigh(sample: Sample<'_>, mut dialect: Dialect, choice: &InputChoice) -> Layout {
    let records = sample.records(dialect);
    let mut counts: HashMap<usize, usize> = HashMap::new();
    let mut score = Score { records: records.len(), ..Score::default() };
    for record in &records[..] {
        if record.broken.is_some() {
            score.broken += 1;
        } else {
            *counts.entry(record.fields.len()).or_default() += 1;
        }
    }
    let most = counts.iter().max_by_key(|(fields, count)| (**count, **fields));
    let (fields, agreeing) = most.map_or((1, 0), |(fields, count)| (*fields, *count));
    // A record of one field is a comment or a title as often as it is a record.
    let several = counts.iter().filter(|(fields, _)| **fields > 1);
    let several = several.max_by_key(|(fields, count)| (**count, **fields));
    let (fields, agreeing) = match several {
        Some((several, count)) if *count * 2 > agreeing || *count >= 3 && *several > 2 => {
            (*several, *count)
        }
        _ => (fields, agreeing),
    };
    let is_said = choice.short_records == Some(ShortRecords::Absent);
    let ragged = match choice.short_records {
        Some(ShortRecords::Reject) => None,
        // Lines of words and spaces have as many as they like.
        None if !ORDINARY.contains(&dialect.delimiter) => None,
        _ => super::short::find(sample, dialect, &records, is_said),
    };
    dialect.short_records = ragged.is_some();
    let fields = ragged.unwrap_or(fields);
    // A header of a table whose rows have names is short by one; see `table::has_short_header`.
    let short = records.first().filter(|first| {
        ragged.is_none()
            && matches!(dialect.delimiter, b' ' | b'\t')
            && first.fields.len() > 1
            && first.fields.len() + 1 == fields
    });
    let short = short.map(|first| first.start);
    let agrees = |record: &&PlainRecord| {
        let found = record.fields.len();
        record.broken.is_none()
            && (found == fields
                || Some(record.start) == short
                || ragged.is_some() && (2..fields).contains(&found))
    };
    let agreeing = match ragged {
        Some(_) => records.iter().filter(agrees).count(),
        None => agreeing + usize::from(short.is_some()),
    };
    let comments =
        records.iter().filter(|record| sample.is_marked(record) && !agrees(record)).count();
    let first = records.iter().position(|record| agrees(&record)).unwrap_or(0);
    let all = (records.len() - comments).max(1);
    let below = records[first..]
        .iter()
        .filter(|record| !sample.is_marked(record) || agrees(record))
        .count();
    score.share = agreeing as f64 / all as f64;
    let is_split = |record: &&PlainRecord| record.fields.len() > 1 && !sample.is_marked(record);
    score.split = records.iter().filter(is_split).count() as f64
        / records.iter().filter(|record| !sample.is_marked(record)).count().max(1) as f64;
    score.below = below;
    score.short = match ragged {
        Some(_) => {
            records.iter().filter(|record| agrees(record) && record.fields.len() < fields).count()
        }
        None => 0,
    };
    score.share_below = agreeing as f64 / below.max(1) as f64;
    score.first_agrees = first == 0;
    let (mut typed, mut values) = (0usize, 0usize);
    let mut scratch = Vec::new();
    for (at, record) in records.iter().filter(agrees).enumerate() {
        for (start, end) in &record.fields {
            let raw = &sample.text[*start..*end];
            score.apostrophes += usize::from(raw.first() == Some(&b'\''));
            let quote = dialect.quote.unwrap_or(b'"');
            if raw.first() == Some(&quote) {
                let closes = raw.len() >= 2 && raw.last() == Some(&quote);
                score.quoted += usize::from(closes);
                score.half_quoted += usize::from(!closes);
                let inner = &raw[1..raw.len().max(2) - 1];
                let is_special = |byte: &u8| {
                    *byte == dialect.delimiter || *byte == quote || matches!(byte, b'\n' | b'\r')
                };
                score.needed += usize::from(closes && inner.iter().any(is_special));
                let has_line_end = inner.iter().any(|byte| matches!(byte, b'\n' | b'\r'));
                score.with_line_ends += usize::from(has_line_end);
            }
            if at > 0 && at < 100 {
                let glance = Glance::of(dialect.value(raw, &mut scratch));
                typed += usize::from(glance != Glance::Text && glance != Glance::Bool);
                values += 1;
            }
        }
    }
    score.typed = typed as f64 / values.max(1) as f64;
    Layout { dialect, fields, score }
}

/// The best of the layouts, and why.
fn choose(
    layouts: &[Layout],
    sample: Sample<'_>,
    choice: &InputChoice,
    finding: &mut Finding,
) -> Layout {
    let is_ordinary = |layout: &&Layout| ORDINARY.contains(&layout.dialect.delimiter);
    let splits = |layout: &&Layout| layout.fields > 1;
    let is_said = choice.short_records.is_some();
    let ordinary = |share: fn(&Score) -> f64, least: f64, ragged: bool| {
        let able = layouts.iter().filter(is_ordinary).filter(splits);
        let able = able.filter(|layout| is_said || layout.dialect.short_records == ragged);
        let able = able.filter(|layout| share(&layout.score) >= least);
        able.fold(None, |best: Option<&Layout>, layout| match best {
            Some(best) if !splits_better(layout, best, share) => Some(best),
            _ => Some(layout),
        })
    };
    if let Some(said) = choice.delimiter {
        if finding.delimiter.is_empty() {
            finding.delimiter = SAID.into();
        }
        let best = layouts.iter().reduce(|best, layout| {
            if layout.score.share > best.score.share + ALIKE { layout } else { best }
        });
        return *best.filter(|best| best.dialect.delimiter == said).expect("it was tried");
    }
    let sure = ordinary(|score| score.share, NO_DOUBT, false);
    let ragged = || ordinary(|score| score.share, NO_DOUBT, true);
    let unusual = || {
        let able = layouts.iter().filter(|layout| !is_ordinary(layout) && is_plain(layout, sample));
        able.reduce(
            |best, layout| {
                if layout.score.typed > best.score.typed + ALIKE { layout } else { best }
            },
        )
    };
    let likely = || ordinary(|score| score.share, CONSISTENT, false);
    let below = || {
        let found = ordinary(|score| score.share_below, 0.9, false);
        found.filter(|layout| layout.score.records as f64 * layout.score.share >= 2.0)
    };
    match sure.or_else(ragged).or_else(unusual).or_else(likely).or_else(below) {
        Some(best) => {
            let score = &best.score;
            let which = if score.share_below < 1.0 {
                let share = (score.share_below * 100.0).floor();
                format!("{share:.0} % of the first {} records", score.below)
            } else if score.first_agrees {
                format!("all of the first {} records", score.below)
            } else {
                format!("the first {} records of the table", score.below)
            };
            let most = if best.dialect.short_records { "up to " } else { "" };
            finding.delimiter = format!("splits {which} into {most}{} fields", best.fields);
            if best.dialect.short_records && choice.short_records.is_none() {
                finding.short_records = format!(
                    "{} of the first {} leave out fields at their end",
                    score.short,
                    counted(score.records as u64, "record")
                );
            }
            *best
        }
        None => {
            let usual = layouts
                .iter()
                .find(|layout| layout.dialect.delimiter == b',')
                .copied()
                .unwrap_or_else(|| {
                    let base = Dialect { delimiter: b',', ..layouts[0].dialect };
                    best_quoting(sample, base, choice)
                });
            // Where commas tear records, what splits every one of them separates, if unevenly.
            let splits_all =
                |layout: &&Layout| is_ordinary(layout) && layout.score.split >= NO_DOUBT;
            let usual = match layouts.iter().find(splits_all) {
                Some(even) if usual.score.share < NO_DOUBT => *even,
                _ => usual,
            };
            let names = [b',', b';', b'\t', b'|'].map(delimiter_name).join(", ");
            finding.delimiter =
                if usual.fields > 1 || layouts.iter().any(|l| is_ordinary(&l) && l.fields > 1) {
                    format!("{ASSUMED}: none of {names} and their like splits the records evenly")
                } else {
                    let aligned = aligned::told(sample.text).map(|told| format!("; {told}"));
                    let aligned = aligned.unwrap_or_default();
                    format!("one column: there is none of {names} in it{aligned}")
                };
            usual
        }
    }
}

/// Whether a layout splits better than another, where both delimiters are ordinary ones.
fn splits_better(layout: &Layout, other: &Layout, share: fn(&Score) -> f64) -> bool {
    let (ours, theirs) = (&layout.score, &other.score);
    let by_share = share(ours) - share(theirs);
    let by_type = ours.typed - theirs.typed;
    if by_share.abs() > ALIKE {
        return by_share > 0.0;
    }
    if ours.first_agrees != theirs.first_agrees {
        return ours.first_agrees;
    }
    by_type > 0.05
}

/// Whether an unusual delimiter is plainly one.
fn is_plain(layout: &Layout, sample: Sample<'_>) -> bool {
    let score = &layout.score;
    if layout.fields < 2 || score.share < NO_DOUBT || score.records < 2 || !score.first_agrees {
        return false;
    }
    // Lines that are values as they stand (times, addresses, spaced numbers) are not to be cut up.
    let lines = sample.records(layout.dialect);
    let lines = &lines[..lines.len().min(100)];
    let is_value = |record: &&PlainRecord| {
        let end = record.fields.last().map_or(record.start, |field| field.1);
        is_one_value(trim(&sample.text[record.start..end]))
    };
    if lines.iter().skip(1).filter(is_value).count() * 2 > lines.len() - 1 {
        return false;
    }
    match layout.dialect.delimiter {
        b' ' => score.typed >= 0.5 && score.records >= 3,
        b':' | b'=' | b'@' | b'&' | b'*' | b'#' | b'$' | b'%' => {
            score.typed >= 0.3 || layout.fields > 3
        }
        _ => true,
    }
}

/// Whether a line is a value that has an unusual delimiter in it: a date, a time, an address, or a
/// number with its thousands apart.
fn is_one_value(line: &[u8]) -> bool {
    let is_address = line.contains(&b':')
        && line.iter().all(|byte| byte.is_ascii_hexdigit() || matches!(byte, b':' | b'.'));
    let mut groups = line.split(|byte| *byte == b' ');
    let is_digits = |group: &[u8]| group.iter().all(u8::is_ascii_digit);
    let first = groups.next().unwrap_or_default();
    let is_grouped = line.contains(&b' ')
        && (1..=3).contains(&first.len())
        && is_digits(first)
        && groups.all(|group| group.len() == 3 && is_digits(group));
    is_address || is_grouped || line.len() > 4 && read_shape(line).is_some()
}

fn quote_reason(layout: &Layout) -> String {
    match (layout.dialect.quote, layout.score.quoted) {
        (None, _) => "with quotes, records would be torn".into(),
        (Some(_), 0) => "no field is quoted so far".into(),
        (Some(_), quoted) => format!("{} in quotes so far", counted(quoted as u64, "field")),
    }
}

/// What ends the lines of the table, for a person, and for the splitter where a CR alone does.
pub(super) fn line_ends_of(
    sample: Sample<'_>,
    dialect: Dialect,
    choice: &InputChoice,
    finding: &mut Finding,
) -> LineEnds {
    if let Some(said) = choice.line_ends {
        finding.line_ends = SAID.into();
        return said;
    }
    let (mut feeds, mut pairs, mut returns) = (0usize, 0usize, 0usize);
    for record in sample.records(dialect).iter().filter(|record| record.complete) {
        match &sample.text[record.start..record.next] {
            [.., b'\r', b'\n'] => pairs += 1,
            [.., b'\n'] => feeds += 1,
            _ => returns += 1,
        }
    }
    let seen: Vec<String> = [(feeds, "lf"), (pairs, "crlf"), (returns, "cr")]
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, name)| format!("{count} {name}"))
        .collect();
    let (ends, why) = match (feeds, pairs, returns) {
        (0, 0, 0) => (dialect.line_ends, String::new()),
        (_, 0, 0) => (LineEnds::Lf, String::new()),
        (0, _, 0) => (LineEnds::CrLf, String::new()),
        (0, 0, _) => (LineEnds::Cr, String::new()),
        _ => (LineEnds::Mixed, format!("{} among the first records", seen.join(", "))),
    };
    finding.line_ends = why;
    ends
}
