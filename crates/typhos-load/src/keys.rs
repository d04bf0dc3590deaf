//! Duplicate keys of an input, found before anything is sent, with the lines of both.
//!
//! The key of every record becomes a fingerprint of 128 bits, of two hashes with seeds of this run. The
//! fingerprints are sorted in memory and, beyond that, in temporary files that are merged, so any number
//! of them fits. A first pass looks at the columns of the key alone; only where it finds something, a
//! second one looks at all columns: a record that is set aside for another reason is not a repeat. A stream, which can
//! be read only once, is watched while it is loaded.

use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arrow_array::RecordBatch;
use typhos_core::columns::{Converter, OnMisfit, Plan, cell_text};
use typhos_core::run::{self, Monitor, RunOptions};
use typhos_core::schema::Schema;
use typhos_core::spilling::{ByteMerge, ByteRuns, Scratch};
use typhos_core::text::Input;
use typhos_core::wording::listed;

use crate::error::LoadError;
use crate::error::TargetError;
use crate::located::LookEnded;

/// Fingerprints that are sorted in memory: 64 MiB of them.
const IN_MEMORY: usize = (64 << 20) / ENTRY;

/// Bytes of a fingerprint and its place in memory, and where they are put aside.
const ENTRY: usize = 32;
const WRITTEN: usize = 28;

/// Keys that are named.
const SHOWN: usize = 5;

/// A fingerprint, and the file and line it is from.
type Entry = (u64, u64, u32, u64);

/// Refuses an input in which a key comes twice. A stream, which can be read only once, is watched while it is loaded.
///
/// # Errors
/// [`TargetError::Repeated`], and an input that cannot be read.
pub fn find_repeats(
    input: &Input,
    plan: &Plan,
    scratch: &Arc<dyn Scratch>,
    options: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<(), LoadError> {
    let key = &plan.schema().layout.key;
    if key.is_empty() || input.is_stream() {
        return Ok(());
    }
    let is_key = |name: &String| key.contains(name);
    let narrow = Schema {
        columns: plan
            .schema()
            .columns
            .iter()
            .filter(|column| is_key(&column.name))
            .cloned()
            .collect(),
        ..plan.schema().clone()
    };
    let narrow = Plan::new(narrow, input).expect("columns that were found before");
    if repeats(input, &narrow, scratch, options, monitor)?.count == 0 {
        return Ok(());
    }
    repeats(input, plan, scratch, options, monitor)?.refuse(key)
}

/// Duplicate keys of an input.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Repeats {
    /// Records whose key has come before.
    pub count: u64,
    /// The first of them: where the key came first, and where it came again.
    pub examples: Vec<(String, String)>,
}

impl Repeats {
    /// Refuses an input that has any.
    ///
    /// # Errors
    /// [`TargetError::Repeated`].
    pub fn refuse(self, key: &[String]) -> Result<(), LoadError> {
        if self.count == 0 {
            return Ok(());
        }
        let repeats = self.examples.iter().map(|(first, again)| format!("{first} and {again}"));
        let repeats = repeats.collect();
        Err(TargetError::Repeated { columns: listed(key), count: self.count, repeats }.into())
    }
}

fn repeats(
    input: &Input,
    plan: &Plan,
    scratch: &Arc<dyn Scratch>,
    options: &RunOptions,
    monitor: &dyn Monitor,
) -> Result<Repeats, LoadError> {
    let watch = KeyWatch::new(plan, scratch).expect("a key is declared");
    monitor.begin("looking for duplicate keys", Some(input.bytes()));
    run::map_blocks::<_, _, LoadError>(
        plan.blocks(input),
        options,
        monitor,
        || Converter::new(plan, OnMisfit::AsDeclared),
        |converter, block| {
            // What stops the load stops it with its own words, in its own pass.
            let _ = converter.convert_with_places::<LookEnded>(block, |batch, places| {
                watch.note(&batch, places.file, places.lines).map_err(|_| LookEnded)
            });
            watch.check()
        },
        |()| Ok(()),
    )?;
    Ok(watch.finish(input)?)
}

/// Watches the keys of rows that go by, on any thread and in any order.
pub struct KeyWatch {
    columns: Vec<usize>,
    random: [u64; 2],
    entries: Mutex<(Entries, Option<io::Error>)>,
}

impl KeyWatch {
    /// Watches the key that a plan declares; `None` where it declares none. What does not fit into memory is put
    /// into `scratch`.
    pub fn new(plan: &Plan, scratch: &Arc<dyn Scratch>) -> Option<KeyWatch> {
        let schema = plan.schema();
        let place = |name: &String| schema.columns.iter().position(|column| column.name == *name);
        let columns: Vec<_> = schema.layout.key.iter().filter_map(place).collect();
        let random: [u64; 2] = std::array::from_fn(|_| {
            use std::hash::{BuildHasher, Hasher};
            std::collections::hash_map::RandomState::new().build_hasher().finish()
        });
        let entries = Entries { held: Vec::new(), runs: ByteRuns::new(scratch.clone()) };
        (!columns.is_empty()).then(|| KeyWatch {
            columns,
            random,
            entries: Mutex::new((entries, None)),
        })
    }

    /// Notes the keys of a batch, whose rows start in these lines of a file of the input.
    ///
    /// # Errors
    /// A temporary file that cannot be written.
    pub fn note(&self, batch: &RecordBatch, file: u32, lines: &[u64]) -> Result<(), TargetError> {
        let mut new = Vec::with_capacity(lines.len());
        fingerprints(batch, &self.columns, self.random, file, lines, &mut new);
        let (entries, failed) = &mut *lock(&self.entries);
        match entries.add(new) {
            Ok(()) => Ok(()),
            Err(error) => {
                let told = aside(&entries.runs, io::Error::other(error.to_string()));
                *failed = Some(error);
                Err(told)
            }
        }
    }

    /// Tells of a failure that could not be told when it happened.
    fn check(&self) -> Result<(), LoadError> {
        let (entries, failed) = &mut *lock(&self.entries);
        failed.take().map_or(Ok(()), |error| Err(aside(&entries.runs, error).into()))
    }

    /// The keys that came twice.
    ///
    /// # Errors
    /// A temporary file that cannot be read.
    pub fn finish(self, input: &Input) -> Result<Repeats, TargetError> {
        let (entries, _) = self.entries.into_inner().unwrap_or_else(PoisonError::into_inner);
        let place = entries.runs.place();
        let failed = |source| TargetError::Io { path: place.into(), source };
        let (count, pairs) = entries.repeats().map_err(failed)?;
        let place =
            |entry: &Entry| format!("{}:{}", input.files()[entry.2 as usize].name(), entry.3);
        let examples = pairs.iter().map(|(first, again)| (place(first), place(again))).collect();
        Ok(Repeats { count, examples })
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn fingerprints(
    batch: &RecordBatch,
    columns: &[usize],
    random: [u64; 2],
    file: u32,
    lines: &[u64],
    entries: &mut Vec<Entry>,
) {
    let mut text = Vec::new();
    for (row, line) in lines.iter().enumerate() {
        text.clear();
        for column in columns {
            let cell = cell_text(batch.column(*column), row);
            // A length before each value keeps "ab" and "c" from being "a" and "bc".
            let length = cell.as_ref().map_or(u32::MAX, |cell| cell.len() as u32);
            text.extend_from_slice(&length.to_le_bytes());
            text.extend_from_slice(cell.unwrap_or_default().as_bytes());
        }
        let [high, low] = random.map(|seed| twox_hash::XxHash3_64::oneshot_with_seed(seed, &text));
        entries.push((high, low, file, *line));
    }
}

/// An error of the place where fingerprints are put aside.
fn aside(runs: &ByteRuns, source: io::Error) -> TargetError {
    TargetError::Io { path: Path::new(&runs.place()).to_path_buf(), source }
}

/// Fingerprints in memory and in sorted runs.
struct Entries {
    held: Vec<Entry>,
    runs: ByteRuns,
}

impl Entries {
    fn add(&mut self, mut block: Vec<Entry>) -> io::Result<()> {
        self.held.append(&mut block);
        if self.held.len() >= IN_MEMORY { self.spill() } else { Ok(()) }
    }

    fn spill(&mut self) -> io::Result<()> {
        self.held.sort_unstable();
        self.runs.push(self.held.iter().map(written))?;
        self.held.clear();
        Ok(())
    }

    /// How many fingerprints came before, and the first pairs of equal ones, by where the later one stands.
    fn repeats(mut self) -> io::Result<(u64, Vec<(Entry, Entry)>)> {
        let mut entries = if self.runs.is_empty() {
            self.held.sort_unstable();
            Ordered::Held(self.held.into_iter())
        } else {
            self.spill()?;
            Ordered::Aside(self.runs.merge()?)
        };
        let mut found: Vec<(Entry, Entry)> = Vec::new();
        let mut count = 0;
        let mut first: Option<Entry> = None;
        while let Some(entry) = entries.next()? {
            match first {
                Some(known) if (known.0, known.1) == (entry.0, entry.1) => {
                    count += 1;
                    found.push((known, entry));
                    if found.len() > 64 * SHOWN {
                        keep_first(&mut found);
                    }
                }
                _ => first = Some(entry),
            }
        }
        keep_first(&mut found);
        Ok((count, found))
    }
}

/// An entry as bytes that compare as entries do.
fn written(&(high, low, file, line): &Entry) -> [u8; WRITTEN] {
    let mut bytes = [0; WRITTEN];
    bytes[..8].copy_from_slice(&high.to_be_bytes());
    bytes[8..16].copy_from_slice(&low.to_be_bytes());
    bytes[16..20].copy_from_slice(&file.to_be_bytes());
    bytes[20..].copy_from_slice(&line.to_be_bytes());
    bytes
}

fn read_back(bytes: &[u8]) -> Option<Entry> {
    let long = |at: usize| Some(u64::from_be_bytes(bytes.get(at..at + 8)?.try_into().ok()?));
    let file = u32::from_be_bytes(bytes.get(16..20)?.try_into().ok()?);
    Some((long(0)?, long(8)?, file, long(20)?))
}

fn keep_first(found: &mut Vec<(Entry, Entry)>) {
    found.sort_by_key(|(_, again)| (again.2, again.3));
    found.truncate(SHOWN);
}

/// Entries in ascending order.
enum Ordered {
    Held(std::vec::IntoIter<Entry>),
    Aside(ByteMerge),
}

impl Ordered {
    fn next(&mut self) -> io::Result<Option<Entry>> {
        match self {
            Ordered::Held(entries) => Ok(entries.next()),
            Ordered::Aside(merge) => Ok(merge.next()?.and_then(read_back)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    #[test]
    fn repeats_are_found_in_memory_and_in_files() {
        let folder = tempfile::tempdir().unwrap();
        let scratch = crate::TempFiles::inside(folder.path());
        let mut entries = Entries { held: Vec::new(), runs: ByteRuns::new(scratch) };
        let entry = |key: u64, line: u64| (key.wrapping_mul(0x9e37_79b9_7f4a_7c15), key, 0, line);
        for part in 0..3 {
            entries
                .add((0..1000).map(|n| entry(part * 1000 + n, part * 1000 + n)).collect())
                .unwrap();
            entries.spill().unwrap();
        }
        entries.add(vec![entry(2500, 9000), entry(17, 8000), entry(9999, 8500)]).unwrap();
        let (count, found) = entries.repeats().unwrap();
        assert_eq!(count, 2);
        let lines: Vec<_> = found.iter().map(|(first, again)| (first.3, again.3)).collect();
        assert_eq!(lines, [(17, 8000), (2500, 9000)]);
    }

    proptest! {
        /// A map of all keys finds the same, wherever entries are put aside, and whatever order threads bring them in.
        #[test]
        fn repeats_are_those_that_a_map_finds(
            keys in proptest::collection::vec((0u64..30, 0u64..3, any::<bool>()), 0..120),
            order in proptest::collection::vec(any::<prop::sample::Index>(), 120),
        ) {
            let folder = tempfile::tempdir().unwrap();
            let mut entries =
                Entries { held: Vec::new(), runs: ByteRuns::new(crate::TempFiles::inside(folder.path())) };
            let places = keys.iter().enumerate().map(|(line, (high, low, is_last))| {
                ((*high, *low, line as u32 % 2, line as u64), *is_last)
            });
            let mut places: Vec<_> = places.collect();
            let mut first = BTreeMap::new();
            let mut want = Vec::new();
            let mut in_order: Vec<Entry> = places.iter().map(|(entry, _)| *entry).collect();
            in_order.sort_by_key(|entry| (entry.2, entry.3));
            for entry in in_order {
                match first.get(&(entry.0, entry.1)) {
                    Some(known) => want.push((*known, entry)),
                    None => drop(first.insert((entry.0, entry.1), entry)),
                }
            }
            for (at, other) in order.iter().enumerate().take(places.len()) {
                let other = other.index(places.len());
                places.swap(at, other);
            }
            for (entry, is_last) in places {
                entries.add(vec![entry]).unwrap();
                if is_last {
                    entries.spill().unwrap();
                }
            }
            let (count, found) = entries.repeats().unwrap();
            prop_assert_eq!(count, want.len() as u64);
            want.truncate(SHOWN);
            prop_assert_eq!(found, want);
        }
    }
}
