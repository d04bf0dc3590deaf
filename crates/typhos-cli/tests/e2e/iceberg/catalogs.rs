//! Catalogs in other databases and behind servers, and files in a store.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

use serde_json::json;

use super::{column, read_from, sailings};
use crate::independent::{python, script};
use crate::servers::{Kind, Server};
use crate::stores::Bucket;
use crate::world::World;

const TOKEN: &str = "a-token-that-nobody-prints";

/// A catalog server of another library.
struct CatalogServer {
    child: Child,
    port: String,
    folder: tempfile::TempDir,
}

impl CatalogServer {
    /// One that loses every so-manyth answer to a commit; none where the library is not here.
    fn start(loses: u32) -> Option<CatalogServer> {
        CatalogServer::start_with(loses, None)
    }

    /// The same, with files in a store that the library reaches in this way.
    fn start_with(loses: u32, store: Option<&serde_json::Value>) -> Option<CatalogServer> {
        let folder = tempfile::tempdir().unwrap();
        let mut child = Command::new(python()?)
            .arg(script("rest_catalog.py"))
            .args([&folder.path().display().to_string(), &loses.to_string()])
            .args(store.map(ToString::to_string))
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut port = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut port).unwrap();
        Some(CatalogServer { child, port: port.trim().to_owned(), folder })
    }

    fn read(&self, table: &str) -> serde_json::Value {
        let folder = self.folder.path().display();
        let properties = json!({
            "type": "sql", "name": "rest", "uri": format!("sqlite:///{folder}/rest.db"),
            "warehouse": format!("file://{folder}/warehouse"),
        });
        read_from(&properties, &[table]).unwrap()[table].clone()
    }
}

impl Drop for CatalogServer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn a_catalog_server_makes_every_change_and_a_lost_answer_doubles_nothing() {
    // Of every second commit the answer is lost, although it was made.
    let Some(server) = CatalogServer::start(2) else { return };
    let world = sailings();
    let load = |login: &str, mode: &str, password: &str| {
        let port = &server.port;
        let line = format!(
            "load s.typhos.toml a.csv --into iceberg+http://{login}127.0.0.1:{port} --table ferry.s --mode {mode}"
        );
        let mut command = world.command(&line);
        command.env("TYPHOS_PASSWORD", password);
        if password.is_empty() {
            command.env_remove("TYPHOS_PASSWORD");
        }
        let ran = world.run_command(&line, command);
        assert!(!format!("{}{}", ran.out, ran.err).contains(TOKEN));
        ran
    };
    load("", "create", "").status(3).complains("who are you?").complains("TYPHOS_PASSWORD");
    load("ferry:wrong@", "create", "").status(3).complains("no such client");
    // A plan asks, and changes nothing.
    load("", "create --plan", TOKEN).status(0).says("Parquet files where the catalog puts them");
    let posts = std::fs::read_to_string(server.folder.path().join("posts")).unwrap();
    assert!(posts.lines().all(|post| post == "v1/oauth/tokens"), "{posts}");
    load("", "create", TOKEN).status(0).says("4 read = 4 loaded");
    load("", "create", TOKEN).status(2).complains("it exists already");
    load("ferry:a-secret@", "append", "").status(0);
    for mode in ["append", "refill", "replace", "append"] {
        load("", mode, TOKEN).status(0);
    }
    let table = server.read("ferry.s");
    let rows: Vec<_> = (0..6).map(|at| table["snapshots"][at]["rows"].as_u64().unwrap()).collect();
    assert_eq!(rows, [4, 8, 12, 4, 4, 8]);
    assert_eq!(table["snapshots"].as_array().unwrap().len(), 6);
    assert_eq!(column(&table, "id"), ["1", "1", "2", "2", "3", "3", "4", "4"]);
    assert_eq!(table["partitions"], json!([["sailed_month", "month", 3]]));
}

/// The program itself knows no more than the catalog and its token.
#[test]
fn a_catalog_server_lends_what_its_files_are_reached_with() {
    let bucket = Bucket::start(None);
    let world = sailings();
    let mut store = bucket.properties(&world);
    store.as_object_mut().unwrap().retain(|key, _| key.starts_with("s3.") || key == "warehouse");
    let Some(server) = CatalogServer::start_with(0, Some(&store)) else { return };
    for (file, mode) in [("a.csv", "create"), ("b.csv", "append")] {
        let into = format!("iceberg+http://127.0.0.1:{}", server.port);
        let line = format!("load s.typhos.toml {file} --into {into} --table ferry.s --mode {mode}");
        let mut command = world.command(&line);
        command.env("TYPHOS_PASSWORD", TOKEN);
        for name in
            ["AWS_ENDPOINT_URL", "AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "AWS_PROFILE"]
        {
            command.env_remove(name);
        }
        // A session of somebody else is not mixed with keys that are lent.
        command.env("AWS_SESSION_TOKEN", "of another");
        let ran = world.run_command(&line, command);
        assert!(!format!("{}{}", ran.out, ran.err).contains(crate::stores::SECRET));
        ran.status(0).says("proven");
    }
    let keys = bucket.keys();
    let data = keys.iter().filter(|key| key.ends_with(".parquet")).count();
    assert!(data >= 2, "{keys:?}");
    let properties = json!({
        "type": "sql", "name": "rest", "uri": format!("sqlite:///{}/rest.db", server.folder.path().display()),
    });
    let mut properties = properties.as_object().unwrap().clone();
    properties.extend(store.as_object().unwrap().clone());
    let found = read_from(&properties.into(), &["ferry.s"]).unwrap();
    assert_eq!(column(&found["ferry.s"], "id"), ["1", "2", "3", "4", "5", "6"]);
}

#[test]
fn a_catalog_may_be_in_postgresql_and_two_may_write_to_it_at_once() {
    let Some(server) = Server::shared(Kind::Postgres) else { return };
    let database = server.database();
    let world = sailings();
    let warehouse = world.path("lake/w");
    let into = format!(
        "iceberg+{}?warehouse={}&name=ferries",
        database.url().replace("postgres://", "postgresql://"),
        warehouse.display()
    );
    world.ok(&format!("load s.typhos.toml a.csv --into {into} --table ferry.s"));
    let line =
        format!("load s.typhos.toml b.csv --into {into} --table ferry.s --mode append --quiet");
    let both: Vec<_> = (0..4)
        .map(|_| {
            let mut command = world.command(&line);
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    for child in both {
        let output = crate::world::ended(child);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }
    let tables =
        database.rows("SELECT catalog_name, table_namespace, table_name FROM iceberg_tables");
    assert_eq!(tables, [["ferries", "ferry", "s"]]);
    let url = database.url().replace("postgres://", "postgresql+psycopg2://");
    let properties = json!({
        "type": "sql", "name": "ferries", "uri": url,
        "warehouse": format!("file://{}", warehouse.display()),
    });
    if let Some(found) = read_from(&properties, &["ferry.s"]) {
        let snapshots = found["ferry.s"]["snapshots"].as_array().unwrap();
        let rows: Vec<_> = snapshots.iter().map(|it| it["rows"].as_u64().unwrap()).collect();
        assert_eq!(rows, [4, 6, 8, 10, 12]);
    }
    // Where new tables go has to be known.
    let bare = into.split('?').next().unwrap();
    world
        .run(&format!("load s.typhos.toml a.csv --into {bare} --table ferry.t"))
        .status(3)
        .complains("?warehouse=");
}

#[test]
fn the_files_of_a_table_may_be_in_a_store() {
    let bucket = Bucket::start(None);
    let world = sailings();
    // One file that is sent in parts, beside small ones.
    let noise = |at: u64| at.wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(17);
    let many: String = (0..900_000_u64).fold("id,word\n".to_owned(), |mut text, at| {
        text.push_str(&format!("{at},{:016x}\n", noise(at)));
        text
    });
    world.write("many.csv", many).write(
        "m.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'uint32' }\nword = { type = 'text' }\n[layout]\ncompression = 'none'\n",
    );
    let into = "iceberg+sqlite:lake/catalog.db?warehouse=s3://ferries/lake";
    let load = |schema: &str, file: &str, table: &str, mode: &str| {
        bucket.run(
            &world,
            &format!("load {schema} {file} --into {into} --table {table} --mode {mode}"),
        )
    };
    load("s.typhos.toml", "a.csv", "ferry.s", "create").status(0).says("4 rows");
    load("s.typhos.toml", "b.csv", "ferry.s", "append").status(0);
    load("m.typhos.toml", "many.csv", "ferry.m", "create").status(0).says("proven");
    let before = bucket.keys();
    world.write("bad.csv", "id,route,sailed\n700,Holm,2025-01-02\n");
    load("s.typhos.toml", "bad.csv", "ferry.s", "append").status(4);
    assert_eq!(bucket.keys(), before, "a load that came to nothing leaves nothing");
    let properties = bucket.properties(&world);
    if let Some(found) = read_from(&properties, &["ferry.s"]) {
        assert_eq!(column(&found["ferry.s"], "id"), ["1", "2", "3", "4", "5", "6"]);
    }
    let data: Vec<_> = before.iter().filter(|key| key.contains("ferry/m/data")).collect();
    assert_eq!(data.len(), 1, "{data:?}");
    let file = bucket.path(data[0]);
    assert!(file.metadata().unwrap().len() > 10 << 20, "it was sent in parts");
    std::fs::copy(file, world.path("m.parquet")).unwrap();
    world.ok("tally m.parquet --show count,max(id)").says("900,000");
}

/// The catalog of the tests of stores, for the other library.
impl Bucket {
    fn properties(&self, world: &World) -> serde_json::Value {
        json!({
            "type": "sql",
            "uri": format!("sqlite:///{}", world.path("lake/catalog.db").display()),
            "warehouse": "s3://ferries/lake",
            "s3.endpoint": self.url(),
            "s3.access-key-id": "ferry",
            "s3.secret-access-key": crate::stores::SECRET,
            "s3.region": "us-east-1",
            "s3.force-virtual-addressing": "false",
        })
    }
}
