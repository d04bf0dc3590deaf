//! The cells of columns of texts, of any form.

use std::sync::Arc;

use arrow_array::builder::StringBuilder;
use arrow_array::{ArrayRef, StringArray};
use arrow_buffer::{NullBufferBuilder, OffsetBuffer, ScalarBuffer};

use super::Reason;
use super::cells::Cells;
use super::runs::{Run, ShortCells};
use crate::readings::trim;
use crate::schema::Scalar;

/// Whether there is no white space around a value.
#[inline(always)]
pub(super) fn is_bare(value: &[u8]) -> bool {
    trim(value).len() == value.len()
}

/// A type whose values are texts of a form, and what says whether a text has it.
pub(super) type Form = (Scalar, fn(&[u8]) -> bool);

/// Plain text. The values are known to be UTF-8: [`convert`](super::convert) sees to it.
pub(super) struct Texts {
    most: Option<u32>,
    /// Whether longer ones are cut.
    clip: bool,
    clipped: u64,
    /// The type that every value must be a text of, and what says so.
    form: Option<Form>,
    bytes: Vec<u8>,
    offsets: Vec<i32>,
    validity: NullBufferBuilder,
}

impl Texts {
    pub fn new(most: Option<u32>, clip: bool, form: Option<Form>) -> Texts {
        let validity = NullBufferBuilder::new(0);
        Texts { most, clip, clipped: 0, form, bytes: Vec::new(), offsets: vec![0], validity }
    }
}

/// Characters of a text that is valid UTF-8.
fn chars(value: &[u8]) -> usize {
    value.iter().filter(|byte| !matches!(byte, 0x80..=0xbf)).count()
}

/// The first characters of a text that is valid UTF-8.
fn first_chars(value: &[u8], count: u32) -> &[u8] {
    let starts = value.iter().enumerate().filter(|(_, byte)| !matches!(byte, 0x80..=0xbf));
    let end = starts.map(|(at, _)| at).nth(count as usize);
    &value[..end.unwrap_or(value.len())]
}

impl ShortCells for Texts {
    #[inline(always)]
    fn push_short(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        let value = &text[start..end];
        // As many bytes are at most as many characters. White space around a value may not be part of it.
        let fits = is_bare(value)
            && self.most.is_none_or(|most| value.len() <= most as usize)
            && self.form.is_none_or(|(_, is_one)| is_one(value));
        if fits {
            self.bytes.extend_from_slice(value);
            self.offsets.push(self.bytes.len() as i32);
        }
        fits
    }

    #[inline(always)]
    fn push_nothing(&mut self, count: usize) {
        self.offsets.resize(self.offsets.len() + count, self.bytes.len() as i32);
    }

    #[inline(always)]
    fn validity(&mut self) -> &mut NullBufferBuilder {
        &mut self.validity
    }
}

impl Cells for Texts {
    fn push_run(&mut self, run: Run<'_>) -> usize {
        run.push(self)
    }

    fn may_take(&self, token: &[u8]) -> bool {
        self.form.is_none_or(|(_, is_one)| is_one(token))
    }

    #[inline]
    fn push(&mut self, mut value: &[u8]) -> Result<(), Reason> {
        if let Some(most) = self.most
            && value.len() > most as usize
        {
            let chars = chars(value);
            if chars > most as usize {
                if !self.clip {
                    return Err(Reason::TooLong { chars, most });
                }
                self.clipped += 1;
                value = first_chars(value, most);
            }
        }
        if let Some((ty, is_one)) = self.form
            && !is_one(value)
        {
            return Err(Reason::NotA(ty));
        }
        self.bytes.extend_from_slice(value);
        self.offsets.push(self.bytes.len() as i32);
        self.validity.append_non_null();
        Ok(())
    }

    #[inline]
    fn push_null(&mut self) {
        self.offsets.push(self.bytes.len() as i32);
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.offsets.truncate(rows + 1);
        self.bytes.truncate(self.offsets[rows] as usize);
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        let offsets = std::mem::replace(&mut self.offsets, vec![0]);
        let capacity = self.bytes.len();
        let bytes = std::mem::replace(&mut self.bytes, Vec::with_capacity(capacity));
        let nulls = self.validity.finish();
        if bytes.is_ascii() {
            let offsets = OffsetBuffer::new(ScalarBuffer::from(offsets));
            return Arc::new(StringArray::new(offsets, bytes.into(), nulls));
        }
        // An array that is made of bytes looks at them once more, and beyond ASCII that is slow.
        let text = simdutf8::basic::from_utf8(&bytes).expect("texts were seen to be valid");
        let mut texts = StringBuilder::with_capacity(offsets.len() - 1, bytes.len());
        for (row, bounds) in offsets.windows(2).enumerate() {
            if nulls.as_ref().is_some_and(|nulls| nulls.is_null(row)) {
                texts.append_null();
            } else {
                texts.append_value(&text[bounds[0] as usize..bounds[1] as usize]);
            }
        }
        Arc::new(texts.finish())
    }

    fn changed(&mut self) -> u64 {
        std::mem::take(&mut self.clipped)
    }
}
