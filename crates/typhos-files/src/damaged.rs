//! Reading files that others made, and that may be damaged: the readers of the formats trust what a file says of
//! itself, and some of them panic where it is not so.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;

use ::parquet::errors::ParquetError;
use ::parquet::file::reader::{ChunkReader, Length};
use arrow_ipc::reader::read_footer_length;
use arrow_ipc::{root_as_footer, root_as_message};

use typhos_load::TargetError;

/// Reads a file, and makes an error of a panic on the way.
///
/// # Errors
/// Those of `read`, and [`TargetError::NotThat`] where it panics.
pub fn guarded<T>(
    path: &Path,
    read: impl FnOnce() -> Result<T, TargetError>,
) -> Result<T, TargetError> {
    catch_unwind(AssertUnwindSafe(read)).unwrap_or_else(|_| Err(damaged(path)))
}

pub fn damaged(path: &Path) -> TargetError {
    TargetError::NotThat { path: path.to_path_buf(), what: "is damaged, and cannot be read".into() }
}

/// A file of which no more is asked than it has.
pub struct Bounded {
    file: File,
    bytes: u64,
}

impl Bounded {
    /// Opens a file.
    ///
    /// # Errors
    /// A file that cannot be opened.
    pub fn open(path: &Path) -> Result<Bounded, TargetError> {
        let file = File::open(path).map_err(TargetError::io(path))?;
        let bytes = file.metadata().map_err(TargetError::io(path))?.len();
        Ok(Bounded { file, bytes })
    }
}

impl Length for Bounded {
    fn len(&self) -> u64 {
        self.bytes
    }
}

impl ChunkReader for Bounded {
    type T = std::io::BufReader<File>;

    fn get_read(&self, start: u64) -> Result<Self::T, ParquetError> {
        self.file.get_read(start)
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<bytes::Bytes, ParquetError> {
        // The reader of a plain file makes room for as much as is asked for, before it reads.
        match start.checked_add(length as u64) {
            Some(end) if end <= self.bytes => self.file.get_bytes(start, length),
            _ => Err(ParquetError::EOF(format!("{length} bytes at {start} are not in the file"))),
        }
    }
}

/// The most bytes of the footer of an Arrow file.
const MOST_FOOTER: usize = 64 << 20;

/// Makes sure that all parts of an Arrow file are in it: its reader makes room for them before it reads.
///
/// # Errors
/// A file that says otherwise.
pub fn verify_arrow(path: &Path) -> Result<u64, TargetError> {
    let mut file = File::open(path).map_err(TargetError::io(path))?;
    let bytes = file.metadata().map_err(TargetError::io(path))?.len();
    let mut tail = [0; 10];
    let Some(end) = bytes.checked_sub(10) else { return Err(damaged(path)) };
    file.seek(SeekFrom::Start(end)).map_err(TargetError::io(path))?;
    file.read_exact(&mut tail).map_err(TargetError::io(path))?;
    let length = read_footer_length(tail).map_err(|_| damaged(path))?;
    let start = end.checked_sub(length as u64).filter(|_| length <= MOST_FOOTER);
    let Some(start) = start else { return Err(damaged(path)) };
    let mut footer = vec![0; length];
    file.seek(SeekFrom::Start(start)).map_err(TargetError::io(path))?;
    file.read_exact(&mut footer).map_err(TargetError::io(path))?;
    let footer = root_as_footer(&footer).map_err(|_| damaged(path))?;
    let lists = [footer.recordBatches(), footer.dictionaries()];
    for block in lists.into_iter().flatten().flatten() {
        let parts = [block.offset(), block.metaDataLength().into(), block.bodyLength()];
        let mut end = 0u64;
        for part in parts {
            let part = u64::try_from(part).map_err(|_| damaged(path))?;
            end = end.checked_add(part).filter(|end| *end <= start).ok_or_else(|| damaged(path))?;
        }
    }
    let batches = footer.recordBatches().into_iter().flatten();
    batches
        .map(|block| batch_rows(&mut file, block.offset(), block.metaDataLength()))
        .sum::<Option<u64>>()
        .ok_or_else(|| damaged(path))
}

/// Rows of a batch, as its message says.
fn batch_rows(file: &mut File, offset: i64, length: i32) -> Option<u64> {
    let length = usize::try_from(length).ok().filter(|length| *length <= MOST_FOOTER)?;
    file.seek(SeekFrom::Start(u64::try_from(offset).ok()?)).ok()?;
    let mut message = vec![0; length];
    file.read_exact(&mut message).ok()?;
    // Four bytes that say that the length follows, and the length; older files have the length only.
    let start = if message.starts_with(&[0xff; 4]) { 8 } else { 4 };
    let message = root_as_message(message.get(start..)?).ok()?;
    u64::try_from(message.header_as_record_batch()?.length()).ok()
}
