//! A place on a server as a destination, whichever server it is: a table, or an index.

use std::fmt;
use std::path::PathBuf;
use std::sync::mpsc::channel;
use std::time::Duration;

use typhos_core::wording::counted;
use typhos_load::table::{FileMark, LoadedBefore, Session, TableTarget};
use typhos_load::{
    Address, Awaited, Destination, Job, LoadError, LoadPlan, LoadReport, LoadRun, Onlooker, Secret,
    Target, TargetError, TargetKind, plain_name, plan_of,
};

use crate::passwords;
use crate::server_url::ServerUrl;

/// How a session with a server is begun.
pub type Connect<S> = fn(&ServerUrl) -> Result<S, TargetError>;

/// How a destination is made of what was asked for.
type Open = fn(&Address<'_>) -> Result<Box<dyn Destination>, String>;

/// How a place becomes a target.
type Connecting<T> = Box<dyn Fn(&ServerUrl) -> Result<T, TargetError>>;

/// A place, and how it becomes a target.
struct ServerPlace<T> {
    url: ServerUrl,
    /// The table, where the URL does not say all.
    table: Option<String>,
    connect: Connecting<T>,
}

impl<T> fmt::Debug for ServerPlace<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.url)?;
        self.table.as_ref().map_or(Ok(()), |table| write!(f, " table {table}"))
    }
}

/// Tables of a server as a kind of target, by the schemes of their URLs.
pub const fn kind(schemes: &'static [&'static str], open: Open) -> TargetKind {
    TargetKind { name: "a server", schemes, extensions: &[], has_parts: false, open, probe: None }
}

/// Takes a URL apart, and looks up its password.
///
/// # Errors
/// What is wrong with it.
pub fn parsed(url: &str) -> Result<ServerUrl, String> {
    let url = ServerUrl::parse(url).ok_or("is not the URL of a server")?;
    let mut url = url?;
    passwords::look_up(&mut url)?;
    Ok(url)
}

/// Connects, and gives up where that takes too long: a server may take a connection and then be mute.
///
/// # Errors
/// Those of `connect`, and a server that does not answer.
pub fn in_time<S: Send + 'static>(
    url: &ServerUrl,
    connect: impl FnOnce(&ServerUrl) -> Result<S, TargetError> + Send + 'static,
) -> Result<S, TargetError> {
    let most = url.timeouts.connect;
    if most.is_zero() {
        return connect(url);
    }
    let (told, heard) = channel();
    let place = url.clone();
    let connecting = std::thread::Builder::new().spawn(move || {
        // Who gave up does not listen any more.
        let _ = told.send(connect(&place));
    });
    connecting.map_err(TargetError::Thread)?;
    // The client has the same time for the first step of it, and knows more of what is wrong there.
    match heard.recv_timeout(most + GRACE) {
        Ok(connected) => connected,
        Err(_) => Err(TargetError::Server {
            target: url.to_string(),
            message: format!(
                "the server took a connection and has not answered for {}",
                counted(most.as_secs(), "second")
            ),
            help: "is there a server of this kind at this port?".into(),
        }),
    }
}

/// Who asks a server what a session waits for, over a connection that is made with the first question.
pub fn onlooker<S: Send + 'static>(
    url: &ServerUrl,
    connect: Connect<S>,
    mut ask: impl FnMut(&mut S) -> Result<Option<String>, TargetError> + Send + 'static,
) -> Onlooker {
    let (url, mut session) = (url.clone(), None);
    Box::new(move || {
        let session = match &mut session {
            Some(session) => session,
            none => none.insert(connect(&url)?),
        };
        ask(session)
    })
}

/// What a server has beyond its time.
const GRACE: Duration = Duration::from_secs(1);

/// Makes a destination of what was asked for, a table; nothing is connected to yet.
///
/// # Errors
/// What is wrong with the URL.
pub fn open<S: Session>(
    address: &Address<'_>,
    connect: Connect<S>,
) -> Result<Box<dyn Destination>, String> {
    let mut url = parsed(address.into)?;
    url.timeouts = address.timeouts;
    let table = match address.is_named {
        true => url.go_to(address.table)?,
        false => address.table.to_owned(),
    };
    let name = Some(table.clone());
    let connect = move |url: &ServerUrl| {
        Ok(TableTarget { session: in_time(url, connect)?, table: table.clone() })
    };
    Ok(Box::new(ServerPlace { url, table: name, connect: Box::new(connect) }))
}

/// The same, of a place that the URL says all of.
///
/// # Errors
/// What is wrong with the URL.
#[cfg(feature = "index")]
pub fn open_whole<T: Target + 'static>(
    address: &Address<'_>,
    connect: Connect<T>,
) -> Result<Box<dyn Destination>, String> {
    let mut url = parsed(address.into)?;
    url.timeouts = address.timeouts;
    Ok(Box::new(ServerPlace { url, table: None, connect: Box::new(connect) }))
}

impl<T: Target> Destination for ServerPlace<T> {
    fn rejects(&self) -> PathBuf {
        let ServerUrl { host, database, schema, .. } = &self.url;
        let parts = [Some(host), Some(database), schema.as_ref(), self.table.as_ref()];
        let parts: Vec<_> = parts.into_iter().flatten().map(|part| plain_name(part)).collect();
        PathBuf::from(format!("{}.rejects.csv", parts.join(".")))
    }

    fn awaited(&self) -> Awaited {
        Awaited::Unseen
    }

    fn speaks_sql(&self) -> bool {
        self.table.is_some()
    }

    fn loaded_before(
        &self,
        files: &[FileMark],
    ) -> Result<Option<Vec<Option<LoadedBefore>>>, LoadError> {
        Ok((self.connect)(&self.url)?.loaded_before(files)?)
    }

    fn log_in(&mut self, password: Secret) {
        self.url.password = Some(password);
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of((self.connect)(&self.url)?, job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into((self.connect)(&self.url)?)
    }
}
