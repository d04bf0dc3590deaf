//! Tables of a lake in the open table format Apache Iceberg: Parquet files, lists of them in Avro, and a catalog that says which
//! list counts.
//!
//! A load writes its files where no reader looks ([`target`]), tells from their ends what is in them ([`facts`]), names them in a
//! manifest ([`manifest`], [`list`]), and makes them part of the table in one step of the catalog ([`snapshot`], [`catalog`]). Version 2 of the
//! format is written: [`types`], [`transform`], [`metadata`] follow its specification.

mod avro;
pub mod catalog;
mod facts;
mod list;
mod literal;
mod manifest;
mod metadata;
mod place;
mod shape;
mod snapshot;
mod target;
mod transform;
mod types;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use typhos_load::{Address, Destination, PASSWORD_VARIABLE, TargetKind};

pub(crate) use literal::Literal;
pub use target::LakeTable;
pub(crate) use transform::Transform;

use catalog::rest::{RestCatalog, login_of};
use catalog::sql::SqlCatalog;
use catalog::sqlite::SqliteRows;
use catalog::{Catalog, TableName};

/// Tables of catalogs that this crate knows.
pub const KIND: TargetKind = TargetKind {
    name: "an Iceberg table",
    schemes: &["iceberg+sqlite", "iceberg+http", "iceberg+https"],
    extensions: &[],
    has_parts: true,
    open: |address| destination(address, &open),
    probe: None,
};

/// Milliseconds since 1970.
fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

/// What a URL says of a catalog behind its question mark.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Settings {
    /// Where new tables go.
    pub warehouse: Option<String>,
    /// The name of the catalog in its database.
    pub name: Option<String>,
}

/// Makes a catalog of its URL.
pub type OpenCatalog<'o> = dyn Fn(&str) -> Result<Arc<dyn Catalog>, String> + 'o;

/// A table of a catalog as a destination; `open` makes the catalog of its URL.
///
/// # Errors
/// What is wrong with the URL, as a sentence.
pub fn destination(
    address: &Address<'_>,
    open: &OpenCatalog<'_>,
) -> Result<Box<dyn Destination>, String> {
    let table = TableName::parse(address.table)?;
    Ok(Box::new(LakeTable { catalog: open(address.into)?, table, parts: address.parts }))
}

/// Takes the settings of a catalog off its URL: what stands before the question mark, the settings, and what else stands
/// behind it.
pub fn settings(url: &str) -> (&str, Settings, String) {
    let (url, query) = url.split_once('?').unwrap_or((url, ""));
    let mut settings = Settings::default();
    let mut rest = Vec::new();
    for pair in query.split('&').filter(|pair| !pair.is_empty()) {
        let (key, value) = pair.split_once('=').unwrap_or((pair, ""));
        let value = percent_encoding::percent_decode_str(value).decode_utf8_lossy().into_owned();
        match key {
            "warehouse" => settings.warehouse = Some(value),
            "name" => settings.name = Some(value),
            _ => rest.push(pair),
        }
    }
    (url, settings, rest.join("&"))
}

/// A warehouse as tables name it: a folder of this machine as a URL.
pub fn folder(warehouse: String) -> String {
    match warehouse.contains(':') {
        true => warehouse,
        false => place::url_of(Path::new(&warehouse)),
    }
}

/// Opens a catalog in a file or behind a server.
fn open(url: &str) -> Result<Arc<dyn Catalog>, String> {
    let (place, settings, rest) = settings(url);
    if !rest.is_empty() {
        let key = rest.split(['=', '&']).next().unwrap_or_default().escape_debug();
        return Err(format!(
            "the URL of a catalog has no '{key}': there are ?warehouse= and ?name="
        ));
    }
    let Some(place) = place.strip_prefix("iceberg+") else {
        return Err(format!("'{place}' is not the URL of a catalog"));
    };
    if let Some(path) = place.strip_prefix("sqlite:") {
        let path = PathBuf::from(path.strip_prefix("//").unwrap_or(path));
        if path.as_os_str().is_empty() || path.is_dir() {
            return Err("name the file of the catalog: iceberg+sqlite:lake/catalog.db".into());
        }
        let beside = || place::url_of(&typhos_load::whole::parent(&path).join("warehouse"));
        let warehouse = settings.warehouse.map_or_else(beside, folder);
        let rows = SqliteRows::new(&path);
        let shown = path.display().to_string();
        return Ok(Arc::new(SqlCatalog::new(rows, shown, settings.name, Some(warehouse))));
    }
    let (base, login) = login_of(place, std::env::var(PASSWORD_VARIABLE).ok());
    Ok(Arc::new(RestCatalog::new(&base, settings.warehouse, login)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn urls_of_catalogs_have_settings() {
        let url = "iceberg+sqlite:/lake/c.db?warehouse=s3%3A%2F%2Flake%2Fw&name=ferry&ca=x";
        let (url, found, rest) = settings(url);
        assert_eq!((url, &rest[..]), ("iceberg+sqlite:/lake/c.db", "ca=x"));
        assert_eq!(found.warehouse.as_deref(), Some("s3://lake/w"));
        assert_eq!(found.name.as_deref(), Some("ferry"));
        assert_eq!(folder("/lake/w".into()), "file:///lake/w");
        assert!(open("iceberg+sqlite:c.db?wharehouse=/w").unwrap_err().contains("wharehouse"));
        assert!(open("iceberg+sqlite:").unwrap_err().contains("name the file"));
    }
}
