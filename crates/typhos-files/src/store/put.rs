//! Objects that are written: whole or not at all. A small one is one request; a large one is sent in parts, which nobody sees
//! before the last request of it.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::sync::Arc;

use futures_util::StreamExt;
use object_store::path::Path as Key;
use object_store::{Attribute, Attributes, MultipartUpload, ObjectStore, ObjectStoreExt};
use object_store::{PutMultipartOptions, PutOptions, PutPayload};

use typhos_core::text::Bytes;

use super::{failed, key_of, open, runtime};

/// Objects up to so many bytes are one request.
const AT_ONCE: u64 = 8 << 20;

/// Bytes of a part: a store takes at most ten thousand of them.
const PART: usize = 8 << 20;

/// The most parts of an object.
const MOST_PARTS: u64 = 10_000;

/// A bucket and the key of an object in it.
struct Target {
    store: Arc<dyn ObjectStore>,
    key: Key,
}

fn target(url: &str) -> io::Result<Target> {
    let not_one = || io::Error::other("is not the URL of an object");
    let (scheme, rest) = url.split_once("://").ok_or_else(not_one)?;
    let (bucket, key) = rest.split_once('/').ok_or_else(not_one)?;
    Ok(Target { store: open(scheme, bucket)?, key: key_of(key)? })
}

/// The whole of an object that is small: metadata.
///
/// # Errors
/// A store that cannot be reached, does not let in, or has no such object.
pub(crate) fn read(url: &str) -> io::Result<Vec<u8>> {
    let Target { store, key } = target(url)?;
    let read = async { store.get(&key).await?.bytes().await };
    runtime().block_on(read).map(Vec::from).map_err(failed)
}

/// Writes an object in one request.
///
/// # Errors
/// A store that cannot be reached or does not let in.
pub fn write(url: &str, bytes: Vec<u8>) -> io::Result<()> {
    let Target { store, key } = target(url)?;
    let put = store.put_opts(&key, PutPayload::from(bytes), PutOptions::default());
    runtime().block_on(put).map(drop).map_err(failed)
}

/// Whether there is such an object.
///
/// # Errors
/// A store that cannot be reached or does not let in.
pub fn exists(url: &str) -> io::Result<bool> {
    let Target { store, key } = target(url)?;
    match runtime().block_on(store.head(&key)) {
        Ok(_) => Ok(true),
        Err(object_store::Error::NotFound { .. }) => Ok(false),
        Err(error) => Err(failed(error)),
    }
}

/// Whether there is any object in a folder.
///
/// # Errors
/// A store that cannot be reached or does not let in.
pub(crate) fn has_any(url: &str) -> io::Result<bool> {
    let Target { store, key } = target(url)?;
    let mut listed = store.list(Some(&key));
    match runtime().block_on(listed.next()) {
        None => Ok(false),
        Some(Ok(_)) => Ok(true),
        Some(Err(object_store::Error::NotFound { .. })) => Ok(false),
        Some(Err(error)) => Err(failed(error)),
    }
}

/// The bytes of an object, as they come.
///
/// # Errors
/// A store that cannot be reached, does not let in, or has no such object.
pub fn open_object(url: &str) -> io::Result<Bytes> {
    let (found, _) = super::origins(url)?;
    match &found[..] {
        [one] => one.open(0),
        _ => Err(io::Error::other("is more than one object")),
    }
}

/// Removes an object; one that is not there is no error.
///
/// # Errors
/// A store that cannot be reached or does not let in.
pub(crate) fn remove(url: &str) -> io::Result<()> {
    let Target { store, key } = target(url)?;
    match runtime().block_on(store.delete(&key)) {
        Ok(()) | Err(object_store::Error::NotFound { .. }) => Ok(()),
        Err(error) => Err(failed(error)),
    }
}

/// An object that is all in the store, and that nobody sees yet. Dropped, it is taken back.
pub(crate) struct Upload {
    target: Target,
    state: State,
}

enum State {
    /// It is sent when it is to be seen.
    Small(Vec<u8>),
    /// Its parts are there.
    Parts(Box<dyn MultipartUpload>),
    /// There is nothing to take back.
    Done,
}

impl Upload {
    /// Sends a file, as far as that can be done unseen. `goes_on` is told of bytes that were sent, and says whether to go on.
    ///
    /// # Errors
    /// A file that cannot be read, a store that cannot be reached or does not let in;
    /// [`Interrupted`](io::ErrorKind::Interrupted) where it was not to go on.
    pub(crate) fn begin(
        from: &Path,
        url: &str,
        goes_on: &mut dyn FnMut(u64) -> bool,
    ) -> io::Result<Upload> {
        let target = target(url)?;
        let mut file = File::open(from)?;
        let bytes = file.metadata()?.len();
        if bytes <= AT_ONCE {
            let mut all = Vec::new();
            file.read_to_end(&mut all)?;
            return Ok(Upload { target, state: State::Small(all) });
        }
        let mut attributes = Attributes::new();
        attributes.insert(Attribute::ContentType, "application/octet-stream".into());
        let options = PutMultipartOptions { attributes, ..PutMultipartOptions::default() };
        let begun = target.store.put_multipart_opts(&target.key, options);
        let parts = runtime().block_on(begun).map_err(failed)?;
        let mut upload = Upload { target, state: State::Parts(parts) };
        let size = usize::try_from(bytes.div_ceil(MOST_PARTS)).unwrap_or(usize::MAX).max(PART);
        let mut left = bytes;
        while left > 0 {
            let State::Parts(parts) = &mut upload.state else { break };
            let mut part = vec![0; size.min(usize::try_from(left).unwrap_or(usize::MAX))];
            file.read_exact(&mut part)?;
            let sent = part.len() as u64;
            runtime().block_on(parts.put_part(PutPayload::from(part))).map_err(failed)?;
            left -= sent;
            if !goes_on(sent) {
                return Err(io::ErrorKind::Interrupted.into());
            }
        }
        Ok(upload)
    }

    /// Lets it be seen.
    ///
    /// # Errors
    /// A store that cannot be reached or does not let in.
    pub(crate) fn complete(mut self) -> io::Result<()> {
        let Target { store, key } = &self.target;
        match &mut self.state {
            State::Small(bytes) => {
                let payload = PutPayload::from(std::mem::take(bytes));
                let put = store.put_opts(key, payload, PutOptions::default());
                runtime().block_on(put).map_err(failed)?;
            }
            State::Parts(parts) => {
                runtime().block_on(parts.complete()).map_err(failed)?;
            }
            State::Done => {}
        }
        self.state = State::Done;
        Ok(())
    }
}

impl Drop for Upload {
    fn drop(&mut self) {
        if let State::Parts(parts) = &mut self.state {
            // A store that cannot be reached removes what is unfinished by rules of its own.
            let _ = runtime().block_on(parts.abort());
        }
    }
}
