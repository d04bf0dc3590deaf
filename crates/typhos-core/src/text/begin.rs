//! Where the first record starts behind a place in the middle of a file.
//!
//! Whether a place is inside of quotes cannot be known from there. So the text behind it is split twice, once as
//! if it were not and again as if it were, and what splits into more records of the input's columns is taken. It
//! remains a guess: whoever uses it notes it, and has it confirmed by what stands before.

use std::io::Read;

use super::{InputError, InputFile, PlainRecord, PlainRecords};
use crate::records::Values;

/// Bytes that are split.
const WINDOW_BYTES: usize = 256 << 10;

/// Finds the start of a line, at `from` or behind it, that stands between records; the end of the file where there is
/// none. `None` where the first record of the file is not before `from`. A record has at most `limit` bytes.
pub(super) fn find_begin(
    file: &InputFile,
    from: u64,
    limit: usize,
) -> Result<Option<u64>, InputError> {
    if from <= file.data_start {
        return Ok(None);
    }
    let failed = |source| file.failed(source);
    // A line may start exactly there: the byte before tells.
    let start = from - 1;
    let mut text = Vec::new();
    let mut rest = file.origin().open(start).map_err(failed)?;
    let mut wanted = WINDOW_BYTES;
    loop {
        (&mut rest).take((wanted - text.len()) as u64).read_to_end(&mut text).map_err(failed)?;
        let is_end = text.len() < wanted;
        match begin(&text, file, is_end) {
            Some(at) => return Ok(Some(start + at as u64)),
            None if is_end || wanted >= limit => return Ok(Some(start + text.len() as u64)),
            None => wanted = (wanted * 4).min(limit.max(WINDOW_BYTES)),
        }
    }
}

/// The same in a text, which starts a byte before where lines count.
fn begin(text: &[u8], file: &InputFile, is_end: bool) -> Option<usize> {
    let dialect = file.dialect();
    let line = dialect.line_ends.after_first(text);
    let is_line = line < text.len() || text[..line].ends_with(b"\n");
    let line = is_line.then_some(line);
    let Some(quote) = dialect.quote.filter(|_| file.layout().paths.is_none()) else {
        return line;
    };
    let end = |text: &[u8]| {
        let record = PlainRecords::new(text, dialect).next().filter(|record| record.complete);
        record.map(|record| record.next)
    };
    // As if a quote had been opened just before, or is opened by the byte before.
    let inside = |behind: usize| {
        let quoted: Vec<u8> = [&[quote], text.get(behind..)?].concat();
        Some(end(&quoted)? - 1 + behind)
    };
    let tries = [end(text), line, inside(0), inside(1)];
    let mut tries: Vec<usize> = tries.into_iter().flatten().collect();
    tries.dedup();
    if let [only] = tries[..] {
        return Some(only);
    }
    let scored = tries.into_iter().map(|at| (at, sound_share(&text[at..], file, is_end)));
    // Of those that are as good the first is taken.
    let best = scored.reduce(|best, next| if next.1 > best.1 { next } else { best });
    best.map(|(at, _)| at)
}

/// Which share of the records of a text, a last one that may be cut left out, have the columns of the file, and no quote
/// that neither opens a field nor closes one.
fn sound_share(text: &[u8], file: &InputFile, is_end: bool) -> f64 {
    let (dialect, fields) = (file.dialect(), file.layout().fields);
    let is_sound = |record: &PlainRecord| {
        let is_field = |(start, end): &(usize, usize)| {
            let raw = &text[*start..*end];
            let has = |quote| memchr::memchr(quote, raw).is_some();
            dialect.is_quoted(raw) || !dialect.quote.is_some_and(has)
        };
        let found = record.fields.len();
        let is_trailing = dialect.trailing_delimiter && record.ends_in_delimiter();
        let is_short = dialect.short_records && (2..fields).contains(&found);
        record.broken.is_none()
            && (found == fields + usize::from(is_trailing) || is_short)
            && record.fields.iter().all(is_field)
    };
    let records = PlainRecords::new(text, dialect).filter(|record| record.complete || is_end);
    let (mut all, mut sound) = (0_u32, 0_u32);
    for record in records.filter(|record| !record.is_blank(text)) {
        all += 1;
        sound += u32::from(is_sound(&record));
    }
    if all == 0 { 0.0 } else { f64::from(sound) / f64::from(all) }
}
