//! A table of a server as a destination, whichever server it is.

use std::fmt;
use std::path::PathBuf;

use typhos_load::table::{Session, TableTarget};
use typhos_load::{
    Address, Awaited, Destination, Job, LoadError, LoadPlan, LoadReport, LoadRun, Secret,
    TargetError, TargetKind, plain_name, plan_of,
};

use crate::passwords;
use crate::server_url::ServerUrl;

/// How a session with a server is begun.
pub type Connect<S> = fn(&ServerUrl) -> Result<S, TargetError>;

/// How a destination is made of what was asked for.
type Open = fn(&Address<'_>) -> Result<Box<dyn Destination>, String>;

/// A table, and how its server is connected to.
struct ServerTable<S> {
    url: ServerUrl,
    table: String,
    connect: Connect<S>,
}

impl<S> fmt::Debug for ServerTable<S> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} table {}", self.url, self.table)
    }
}

/// Tables of a server as a kind of target, by the schemes of their URLs.
pub const fn kind(schemes: &'static [&'static str], open: Open) -> TargetKind {
    TargetKind { name: "a server", schemes, extensions: &[], has_parts: false, open, probe: None }
}

/// Makes a destination of what was asked for; nothing is connected to yet.
///
/// # Errors
/// What is wrong with the URL.
pub fn open<S: Session>(
    address: &Address<'_>,
    connect: Connect<S>,
) -> Result<Box<dyn Destination>, String> {
    let url = ServerUrl::parse(address.into).ok_or("is not the URL of a server")?;
    let mut url = url?;
    passwords::look_up(&mut url);
    Ok(Box::new(ServerTable { url, table: address.table.to_owned(), connect }))
}

impl<S: Session> ServerTable<S> {
    fn target(&self) -> Result<TableTarget<S>, TargetError> {
        Ok(TableTarget { session: (self.connect)(&self.url)?, table: self.table.clone() })
    }
}

impl<S: Session> Destination for ServerTable<S> {
    fn rejects(&self) -> PathBuf {
        let ServerUrl { host, database, schema, .. } = &self.url;
        let parts = [Some(host), Some(database), schema.as_ref(), Some(&self.table)];
        let parts: Vec<_> = parts.into_iter().flatten().map(|part| plain_name(part)).collect();
        PathBuf::from(format!("{}.rejects.csv", parts.join(".")))
    }

    fn awaited(&self) -> Awaited {
        Awaited::Unseen
    }

    fn log_in(&mut self, password: Secret) {
        self.url.password = Some(password);
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.target()?, job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.target()?)
    }
}
