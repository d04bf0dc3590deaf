//! How values of one kind are written, one after the other, into a block. Which kind a column needs is not known here.

use arrow_array::{Array, StringArray};
use typhos_load::view::{Ints, Nested};

/// Which values are written, in their order.
#[derive(Clone, Copy)]
pub(super) enum Rows<'r> {
    /// The first so many.
    All(usize),
    /// These; nothing where what they are in is null.
    These(&'r [Option<usize>]),
}

impl Rows<'_> {
    pub(super) fn len(self) -> usize {
        match self {
            Rows::All(rows) => rows,
            Rows::These(rows) => rows.len(),
        }
    }

    /// The values that are there, with nothing in place of those that are null.
    pub(super) fn of(self, values: &Nested<'_>) -> impl Iterator<Item = Option<usize>> {
        (0..self.len()).map(move |at| {
            let row = match self {
                Rows::All(_) => Some(at),
                Rows::These(rows) => rows[at],
            };
            row.filter(|row| !values.is_null(*row))
        })
    }
}

/// Values of fixed width; zeros where there is none.
#[inline]
pub(super) fn put<const WIDTH: usize>(
    block: &mut Vec<u8>,
    values: &Nested<'_>,
    rows: Rows<'_>,
    bytes: impl Fn(usize) -> [u8; WIDTH],
) {
    let never = |row| Ok::<_, std::convert::Infallible>(bytes(row));
    let Ok(()) = try_put(block, values, rows, never);
}

/// The same, where a value may be one that cannot be held.
#[inline]
pub(super) fn try_put<const WIDTH: usize, E>(
    block: &mut Vec<u8>,
    values: &Nested<'_>,
    rows: Rows<'_>,
    bytes: impl Fn(usize) -> Result<[u8; WIDTH], E>,
) -> Result<(), E> {
    let start = block.len();
    block.resize(start + rows.len() * WIDTH, 0);
    let (places, _) = block[start..].as_chunks_mut::<WIDTH>();
    if let (Rows::All(_), None) = (rows, values.nulls) {
        for (row, place) in places.iter_mut().enumerate() {
            *place = bytes(row)?;
        }
        return Ok(());
    }
    for (row, place) in rows.of(values).zip(places) {
        if let Some(row) = row {
            *place = bytes(row)?;
        }
    }
    Ok(())
}

/// Integers, in so many bytes each.
pub(super) fn put_ints(
    block: &mut Vec<u8>,
    values: &Nested<'_>,
    rows: Rows<'_>,
    ints: Ints<'_>,
    width: u8,
) {
    macro_rules! as_held {
        ($ints:ident) => {
            put(block, values, rows, |row| $ints[row].to_le_bytes())
        };
    }
    match (ints, width) {
        (Ints::I8(ints), 1) => as_held!(ints),
        (Ints::U8(ints), 1) => as_held!(ints),
        (Ints::I16(ints), 2) => as_held!(ints),
        (Ints::U16(ints), 2) => as_held!(ints),
        (Ints::I32(ints), 4) => as_held!(ints),
        (Ints::U32(ints), 4) => as_held!(ints),
        (Ints::I64(ints), 8) => as_held!(ints),
        (Ints::U64(ints), 8) => as_held!(ints),
        (Ints::I128(ints), 16) => as_held!(ints),
        // The lowest bytes of it are the value, which fits.
        (ints, width) => {
            for row in rows.of(values) {
                let bytes = row.map_or(0, |row| ints.get(row)).to_le_bytes();
                block.extend_from_slice(&bytes[..usize::from(width)]);
            }
        }
    }
}

/// Texts; empty ones where there is none.
pub(super) fn put_texts<'t>(
    block: &mut Vec<u8>,
    values: &Nested<'_>,
    rows: Rows<'_>,
    of: impl Fn(usize) -> &'t str,
) {
    for row in rows.of(values) {
        text(block, row.map_or("", &of).as_bytes());
    }
}

/// How dictionaries are written that come with their block.
const OWN_DICTIONARY: u64 = 1;
/// That the texts of a dictionary follow, and that those of no other block are meant.
const TEXTS_FOLLOW: u64 = 1 << 9 | 1 << 10;

/// Texts by their places among those that are used, which come first; place 0 is that of a null, where there may be some.
pub(super) fn put_dictionary(
    block: &mut Vec<u8>,
    values: &Nested<'_>,
    rows: Rows<'_>,
    (codes, texts): (Ints<'_>, &StringArray),
    nullable: bool,
) {
    let mut places = vec![None; texts.len()];
    let mut used = Vec::new();
    let first = u32::from(nullable);
    for code in rows.of(values).flatten().map(|row| codes.narrow(row) as usize) {
        places[code].get_or_insert_with(|| {
            used.push(code);
            used.len() as u32 - 1 + first
        });
    }
    let count = used.len() + first as usize;
    // Places of one byte, two or four.
    let width: u64 = match count {
        0..=0x100 => 0,
        0x101..=0x1_0000 => 1,
        _ => 2,
    };
    for number in [OWN_DICTIONARY, TEXTS_FOLLOW | width, count as u64] {
        block.extend_from_slice(&number.to_le_bytes());
    }
    if nullable {
        text(block, b"");
    }
    used.iter().for_each(|code| text(block, texts.value(*code).as_bytes()));
    block.extend_from_slice(&(rows.len() as u64).to_le_bytes());
    let place = |row| places[codes.narrow(row) as usize].unwrap_or(0);
    match width {
        0 => put(block, values, rows, |row| [place(row) as u8]),
        1 => put(block, values, rows, |row| (place(row) as u16).to_le_bytes()),
        _ => put(block, values, rows, |row| place(row).to_le_bytes()),
    }
}

/// A text behind its length, seven bits to the byte.
#[inline]
pub(super) fn text(block: &mut Vec<u8>, value: &[u8]) {
    length(block, value.len());
    block.extend_from_slice(value);
}

/// A length, seven bits to the byte.
#[inline]
pub(super) fn length(block: &mut Vec<u8>, mut length: usize) {
    while length >= 0x80 {
        block.push(length as u8 | 0x80);
        length >>= 7;
    }
    block.push(length as u8);
}
