//! The cells of columns whose values are codes for a list of words.

use std::sync::Arc;

use arrow_array::types::ArrowDictionaryKeyType;
use arrow_array::{ArrayRef, DictionaryArray, PrimitiveArray, StringArray};
use arrow_buffer::{ArrowNativeType, NullBufferBuilder, ScalarBuffer};

use super::Reason;
use super::cells::Cells;
use super::runs::{Run, ShortCells};
use super::texts::is_bare;
use crate::intern::Interner;

/// Words of an open set after which a batch starts a dictionary of its own. Each batch has all words of its
/// dictionary, so one that grew with the whole block would be copied as often as the block has batches.
const MOST_WORDS: usize = 1 << 14;

/// Words of a closed list that are looked through for the nearest one to a value that is not among them.
const MOST_COMPARED: usize = 1_000;

/// Dictionary codes: of a closed list, or of whatever comes.
pub(super) struct Codes<K: ArrowDictionaryKeyType> {
    words: Interner,
    closed: bool,
    codes: Vec<K::Native>,
    validity: NullBufferBuilder,
    /// The words as an array, as long as no new one has come.
    array: Option<ArrayRef>,
}

impl<K: ArrowDictionaryKeyType> Codes<K> {
    pub fn new(values: &[String]) -> Codes<K> {
        let mut words = Interner::new();
        for value in values {
            words.intern(value.as_bytes());
        }
        let closed = !values.is_empty();
        Codes { words, closed, codes: Vec::new(), validity: NullBufferBuilder::new(0), array: None }
    }

    #[cold]
    fn not_listed(&self, value: &[u8]) -> Reason {
        if self.words.len() > MOST_COMPARED {
            return Reason::NotListed { near: None };
        }
        let value = String::from_utf8_lossy(value);
        let words: Vec<_> = self.words.iter().map(String::from_utf8_lossy).collect();
        Reason::NotListed {
            near: crate::nearest(&value, words.iter().map(AsRef::as_ref)).map(str::to_owned),
        }
    }
}

impl<K: ArrowDictionaryKeyType> ShortCells for Codes<K> {
    #[inline(always)]
    fn push_short(&mut self, text: &[u8], start: usize, end: usize) -> bool {
        let found = match self.words.is_short() {
            true => self.words.find_short(text, start, end),
            false => self.words.find_within(text, start, end),
        };
        match found.filter(|_| is_bare(&text[start..end])) {
            Some(code) => self.codes.push(K::Native::usize_as(code as usize)),
            None => return false,
        }
        true
    }

    #[inline(always)]
    fn push_nothing(&mut self, count: usize) {
        self.codes.resize(self.codes.len() + count, K::Native::default());
    }

    #[inline(always)]
    fn validity(&mut self) -> &mut NullBufferBuilder {
        &mut self.validity
    }
}

impl<K: ArrowDictionaryKeyType> Cells for Codes<K>
where
    K::Native: Send,
{
    fn push_run(&mut self, run: Run<'_>) -> usize {
        run.push(self)
    }

    #[inline]
    fn push(&mut self, value: &[u8]) -> Result<(), Reason> {
        let code = if self.closed {
            self.words.find(value).ok_or_else(|| self.not_listed(value))?
        } else {
            let (code, is_new) = self.words.intern(value);
            if is_new {
                self.array = None;
            }
            code
        };
        self.codes.push(K::Native::usize_as(code as usize));
        self.validity.append_non_null();
        Ok(())
    }

    #[inline]
    fn push_null(&mut self) {
        self.codes.push(K::Native::default());
        self.validity.append_null();
    }

    fn truncate(&mut self, rows: usize) {
        self.codes.truncate(rows);
        self.validity.truncate(rows);
    }

    fn finish(&mut self) -> ArrayRef {
        let words = &self.words;
        let array = self.array.get_or_insert_with(|| {
            let texts = words
                .iter()
                .map(|word| std::str::from_utf8(word).expect("cells are given valid UTF-8"));
            Arc::new(StringArray::from_iter_values(texts))
        });
        let capacity = self.codes.len();
        let codes = std::mem::replace(&mut self.codes, Vec::with_capacity(capacity));
        let keys = PrimitiveArray::<K>::new(ScalarBuffer::from(codes), self.validity.finish());
        let array = array.clone();
        if self.words.len() > MOST_WORDS {
            self.reset();
        }
        Arc::new(DictionaryArray::<K>::new(keys, array))
    }

    fn reset(&mut self) {
        if !self.closed {
            self.words.clear();
            self.array = None;
        }
    }
}
