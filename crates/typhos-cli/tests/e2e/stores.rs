//! Objects in stores: a real server of S3 in a library, one that fails on purpose, and web servers.

use std::convert::Infallible;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use s3s_fs::FileSystem;

use crate::world::{Ran, World};

pub const SECRET: &str = "a-secret-that-nobody-prints";

/// A server whose buckets are folders.
pub struct Bucket {
    folder: tempfile::TempDir,
    address: SocketAddr,
    requests: Arc<AtomicU32>,
    _runtime: tokio::runtime::Runtime,
}

impl Bucket {
    /// One bucket, `ferries`; every so-manyth request fails, where that is wanted.
    pub fn start(fails: Option<u32>) -> Bucket {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("ferries")).unwrap();
        let mut service = S3ServiceBuilder::new(FileSystem::new(folder.path()).unwrap());
        service.set_auth(SimpleAuth::from_single("ferry", SECRET));
        let service = service.build();
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        listener.set_nonblocking(true).unwrap();
        let address = listener.local_addr().unwrap();
        let requests = Arc::new(AtomicU32::new(0));
        let count = requests.clone();
        runtime.spawn(async move {
            let listener = tokio::net::TcpListener::from_std(listener).unwrap();
            while let Ok((socket, _)) = listener.accept().await {
                let (service, count) = (service.clone(), count.clone());
                let answer = service_fn(move |request: Request<Incoming>| {
                    let service = service.clone();
                    let number = count.fetch_add(1, Ordering::Relaxed);
                    async move {
                        if fails.is_some_and(|each| number % each == each - 1) {
                            let mut busy = Response::new(s3s::Body::from("busy".to_owned()));
                            *busy.status_mut() = hyper::StatusCode::SERVICE_UNAVAILABLE;
                            return Ok(busy);
                        }
                        match service.call(request.map(s3s::Body::from)).await {
                            Ok(answer) => Ok::<_, Infallible>(answer),
                            Err(_) => {
                                let mut failed = Response::new(s3s::Body::from(String::new()));
                                *failed.status_mut() = hyper::StatusCode::INTERNAL_SERVER_ERROR;
                                Ok(failed)
                            }
                        }
                    }
                });
                tokio::spawn(async move {
                    let builder = Builder::new(TokioExecutor::new());
                    let _ = builder.serve_connection(TokioIo::new(socket), answer).await;
                });
            }
        });
        Bucket { folder, address, requests, _runtime: runtime }
    }

    pub fn path(&self, key: &str) -> PathBuf {
        self.folder.path().join("ferries").join(key)
    }

    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// The keys of all objects.
    pub fn keys(&self) -> Vec<String> {
        let root = self.path("");
        let mut keys = Vec::new();
        let mut folders = vec![root.clone()];
        while let Some(next) = folders.pop() {
            for entry in std::fs::read_dir(next).unwrap() {
                let path = entry.unwrap().path();
                let key = path.strip_prefix(&root).unwrap().display().to_string();
                match path.is_dir() {
                    true => folders.push(path),
                    false => keys.push(key),
                }
            }
        }
        keys.sort();
        keys
    }

    fn put(&self, world: &World, file: &str, key: &str) {
        std::fs::create_dir_all(self.path(key).parent().unwrap()).unwrap();
        std::fs::copy(world.path(file), self.path(key)).unwrap();
    }

    /// The program, told how the store is reached.
    pub fn command(&self, world: &World, line: &str) -> Command {
        let mut command = world.command(line);
        command
            .env("AWS_ENDPOINT_URL", self.url())
            .env("AWS_ACCESS_KEY_ID", "ferry")
            .env("AWS_SECRET_ACCESS_KEY", SECRET)
            .env("AWS_REGION", "us-east-1");
        command
    }

    pub fn run(&self, world: &World, line: &str) -> Ran {
        let ran = world.run_command(line, self.command(world, line));
        assert!(!format!("{}{}", ran.out, ran.err).contains(SECRET));
        ran
    }
}

#[test]
fn objects_are_read_as_files_are() {
    let world = World::demo(3000);
    let bucket = Bucket::start(None);
    for name in ["tickets.csv", "gauges.tsv", "engines.ndjson"] {
        bucket.put(&world, name, &format!("in/{name}"));
        let here = world.run(&format!("draft {name} --table t"));
        let there = bucket
            .run(&world, &format!("draft s3://ferries/in/{name} --table t"))
            .status(here.status);
        let rest = |text: &str| text.split_once('\n').map(|(_, rest)| rest.to_owned());
        assert_eq!(rest(&there.out), rest(&here.out), "{name}");
    }
    // A folder, and a pattern, stand for the objects in them.
    for month in ["01", "02", "03"] {
        bucket.put(
            &world,
            &format!("crossings/2024-{month}.csv"),
            &format!("crossings/2024-{month}.csv"),
        );
    }
    std::fs::write(bucket.path("crossings/_SUCCESS"), "").unwrap();
    let here = world.run("scout crossings/2024-01.csv crossings/2024-02.csv crossings/2024-03.csv");
    for what in ["s3://ferries/crossings/", "s3://ferries/crossings/2024-*.csv"] {
        let there = bucket.run(&world, &format!("scout {what}")).status(here.status);
        assert_eq!(there.out.contains("_SUCCESS is passed over"), what.ends_with('/'));
        let told: Vec<&str> =
            there.out.lines().skip(2).filter(|line| !line.contains("_SUCCESS")).collect();
        assert_eq!(here.out.lines().skip(2).collect::<Vec<_>>(), told, "{what}");
    }
    // Loaded, checked, and in parts.
    world.ok("draft tickets.csv -o t.typhos.toml");
    bucket
        .run(&world, "check t.typhos.toml s3://ferries/in/tickets.csv")
        .status(0)
        .says("3,000 read");
    bucket.run(&world, "load t.typhos.toml s3://ferries/in/tickets.csv --into t.parquet").status(0);
    world.ok("peek t.parquet --rows 1").says("1 of 3,000 rows");
    for part in ["1/3", "2/3", "3/3"] {
        let name = part.replace('/', "of");
        bucket
            .run(
                &world,
                &format!("scout --part {part} s3://ferries/in/tickets.csv --save {name}.survey"),
            )
            .status(0);
    }
    world.ok("pool 1of3.survey 2of3.survey 3of3.survey -o all.survey").complains("3,000 records");
    // Packed objects are streams within.
    let packed =
        zstd::encode_all(&std::fs::read(world.path("tickets.csv")).unwrap()[..], 1).unwrap();
    std::fs::write(bucket.path("in/tickets.csv.zst"), packed).unwrap();
    bucket.run(&world, "scout s3://ferries/in/tickets.csv.zst").status(0).says("3,000 records");
}

#[test]
fn what_is_not_there_or_not_allowed_is_said() {
    let world = World::demo(100);
    let bucket = Bucket::start(None);
    bucket.put(&world, "tickets.csv", "tickets.csv");
    bucket
        .run(&world, "scout s3://ferries/none.csv")
        .status(3)
        .complains("s3://ferries/none.csv: there is no such object");
    bucket
        .run(&world, "scout s3://ferries/*.tsv")
        .status(3)
        .complains("no object matches this pattern");
    bucket.run(&world, "scout s3://elsewhere/tickets.csv").status(3);
    let mut wrong = bucket.command(&world, "scout s3://ferries/tickets.csv");
    wrong.env("AWS_SECRET_ACCESS_KEY", "wrong");
    let ran = world.run_command("scout with a wrong secret", wrong).status(3);
    assert!(ran.err.contains("credentials"), "{}", ran.err);
    // Credentials in the file of other clients.
    world.write(
        "credentials",
        format!("[ferry]\naws_access_key_id = ferry\naws_secret_access_key = {SECRET}\n"),
    );
    let mut profiled = bucket.command(&world, "scout s3://ferries/tickets.csv");
    profiled
        .env_remove("AWS_ACCESS_KEY_ID")
        .env_remove("AWS_SECRET_ACCESS_KEY")
        .env("AWS_PROFILE", "ferry")
        .env("AWS_SHARED_CREDENTIALS_FILE", world.path("credentials"));
    world.run_command("scout with a profile", profiled).status(0).says("100 records");
    world.run("scout ftp://ferries/tickets.csv").status(2);
    // Where a file of this machine is needed, it is said.
    for line in [
        "check s3://ferries/t.typhos.toml x.csv",
        "peek s3://ferries/a.parquet",
        "scout x.csv --column a --save s3://ferries/a.svg",
    ] {
        world.run(line).status(2).complains("s3:… is an object");
    }
    world.run("scout https://nowhere.invalid/x.csv").status(3);
}

#[test]
fn a_store_that_fails_now_and_then_is_asked_again() {
    let world = World::demo(20_000);
    let bucket = Bucket::start(Some(3));
    bucket.put(&world, "tickets.csv", "tickets.csv");
    let here = world.ok("draft tickets.csv --table t").out;
    let there = bucket.run(&world, "draft s3://ferries/tickets.csv --table t").status(0).out;
    let rest = |text: &str| text.split_once('\n').map(|(_, rest)| rest.to_owned());
    assert_eq!(rest(&there), rest(&here));
    assert!(bucket.requests.load(Ordering::Relaxed) > 5);
}

#[test]
fn an_object_that_changes_while_it_is_read_is_an_error() {
    let world = World::new();
    let bucket = Bucket::start(None);
    // Large enough to be read in many pieces.
    let rows = |last: &str| -> String {
        let rows: String = (0..4_000_000).map(|n| format!("{},abcdef\n", n % 977)).collect();
        format!("n,t\n{rows}{last}\n")
    };
    let text = rows("1,x");
    std::fs::write(bucket.path("big.csv"), &text).unwrap();
    let mut child = bucket
        .command(&world, "scout s3://ferries/big.csv --threads 1")
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    // Replaced as soon as it is being read: by one that is longer.
    while bucket.requests.load(Ordering::Relaxed) < 5 {
        std::thread::sleep(std::time::Duration::from_millis(2));
    }
    std::fs::write(bucket.path("new"), rows("2,yy")).unwrap();
    std::fs::rename(bucket.path("new"), bucket.path("big.csv")).unwrap();
    let mut told = String::new();
    child.stderr.take().unwrap().read_to_string(&mut told).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(3), "{told}");
    assert!(told.contains("changed while it was read"), "{told}");
}

/// What a web server is asked for: the method, and the range.
type Asked<'a> = (&'a str, Option<(usize, usize)>);

/// A web server that answers every request with what is returned here.
fn serve(answer: impl Fn(Asked<'_>) -> Vec<u8> + Send + Sync + 'static) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let answer = Arc::new(answer);
    std::thread::spawn(move || {
        for socket in listener.incoming().map_while(Result::ok) {
            let answer = answer.clone();
            std::thread::spawn(move || {
                let mut reader = BufReader::new(socket.try_clone().unwrap());
                let mut socket = socket;
                loop {
                    let (mut first, mut range) = (String::new(), None);
                    if reader.read_line(&mut first).unwrap_or(0) == 0 {
                        return;
                    }
                    loop {
                        let mut line = String::new();
                        if reader.read_line(&mut line).unwrap_or(0) <= 2 {
                            break;
                        }
                        if let Some(said) = line.to_lowercase().strip_prefix("range: bytes=") {
                            let (from, to) = said.trim().split_once('-').unwrap();
                            range = Some((
                                from.parse::<usize>().unwrap(),
                                to.parse::<usize>().unwrap(),
                            ));
                        }
                    }
                    let method = first.split(' ').next().unwrap();
                    if socket.write_all(&answer((method, range))).is_err() {
                        return;
                    }
                }
            });
        }
    });
    address
}

/// An answer as it goes over the wire.
fn answer(status: &str, headers: &str, method: &str, body: &[u8]) -> Vec<u8> {
    let head = format!("HTTP/1.1 {status}\r\ncontent-length: {}\r\n{headers}\r\n", body.len());
    [head.as_bytes(), if method == "HEAD" { b"" } else { body }].concat()
}

/// A web server with one file; `ranges` says whether it sends parts of it.
fn web(text: Vec<u8>, ranges: bool) -> SocketAddr {
    let accepts = if ranges { "accept-ranges: bytes\r\n" } else { "" };
    serve(move |(method, range)| {
        let headers = format!("etag: \"one\"\r\n{accepts}");
        match range.filter(|_| ranges) {
            Some((from, to)) => answer("206 Partial Content", &headers, method, &text[from..=to]),
            None => answer("200 OK", &headers, method, &text),
        }
    })
}

/// Links that were signed for reading, pages that are made while they are sent, and servers that are busy or say no.
#[test]
fn web_servers_differ_in_what_they_allow_and_say() {
    let world = World::demo(1500);
    let text = Arc::new(std::fs::read(world.path("tickets.csv")).unwrap());
    let here = world.ok("scout tickets.csv").out;
    let scouted = |address: SocketAddr| world.run(&format!("scout http://{address}/tickets.csv"));
    let is_same = |ran: Ran| {
        let ran = ran.status(0);
        assert!(ran.out.lines().skip(1).eq(here.lines().skip(1)), "{}", ran.out);
    };
    for refused in ["403 Forbidden", "405 Method Not Allowed", "501 Not Implemented"] {
        // It may be read, and not asked about; a range says how long the whole is.
        let of = text.clone();
        is_same(scouted(serve(move |(method, range)| match range {
            _ if method == "HEAD" => answer(refused, "", method, b""),
            None => answer("200 OK", "", method, &of),
            Some((from, to)) => {
                let headers = format!("content-range: bytes {from}-{to}/{}\r\n", of.len());
                answer("206 Partial Content", &headers, method, &of[from..=to])
            }
        })));
    }
    // Nobody says how long it is, and ranges are not known of: it is read from its start to its end.
    let of = text.clone();
    let chunked = move |(method, _): Asked<'_>| {
        let mut answer = b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n".to_vec();
        if method != "HEAD" {
            for chunk in of.chunks(10_000) {
                answer.extend(format!("{:x}\r\n", chunk.len()).bytes());
                answer.extend(chunk);
                answer.extend(b"\r\n");
            }
            answer.extend(b"0\r\n\r\n");
        }
        answer
    };
    let address = serve(chunked);
    is_same(scouted(address));
    world.ok("draft tickets.csv -o t.typhos.toml");
    world
        .ok(&format!("load t.typhos.toml http://{address}/tickets.csv --into t.parquet"))
        .says("1,500 read = 1,500 loaded");
    // Busy for a moment: asked again.
    let (of, times) = (text.clone(), AtomicU32::new(0));
    is_same(scouted(serve(move |(method, _)| match times.fetch_add(1, Ordering::Relaxed) % 3 {
        0 => answer("429 Too Many Requests", "", method, b""),
        1 => answer("503 Service Unavailable", "", method, b""),
        _ => answer("200 OK", "", method, &of),
    })));
    // An empty file has no first byte.
    let empty = serve(|(method, _)| match method {
        "HEAD" => answer("403 Forbidden", "", method, b""),
        _ => answer("416 Range Not Satisfiable", "content-range: bytes */0\r\n", method, b""),
    });
    scouted(empty).status(3).complains("is empty");
    for (status, told) in [
        ("404 Not Found", "there is no such file on the server"),
        ("410 Gone", "there is no such file on the server"),
        ("401 Unauthorized", "the server does not let it be read"),
        ("418 I'm a teapot", "the server answers 418"),
    ] {
        let address = serve(move |(method, _)| answer(status, "", method, b""));
        scouted(address).status(3).complains(told);
    }
    // Another part of the file than the one that was asked for, and a file that changed.
    let of = text.clone();
    let whole = serve(move |(method, range)| match range {
        None => answer("200 OK", "accept-ranges: bytes\r\n", method, &of),
        Some(_) => answer("200 OK", "", method, &of),
    });
    scouted(whole).status(3).complains("something else than the range that was asked for");
    let changed = serve(move |(method, range)| match range {
        None => answer("200 OK", "etag: \"one\"\r\naccept-ranges: bytes\r\n", method, &text),
        Some(_) => answer("412 Precondition Failed", "", method, b""),
    });
    scouted(changed).status(3).complains("it changed while it was read");
}

#[test]
fn files_of_web_servers_are_read_with_ranges_and_without() {
    let world = World::demo(2000);
    let text = std::fs::read(world.path("tickets.csv")).unwrap();
    let here = world.ok("scout tickets.csv").out;
    for ranges in [true, false] {
        let address = web(text.clone(), ranges);
        let ran = world
            .ok(&format!("scout http://user:{SECRET}@{address}/tickets.csv?signature={SECRET}"));
        assert_eq!(
            ran.out.lines().skip(1).collect::<Vec<_>>(),
            here.lines().skip(1).collect::<Vec<_>>()
        );
        assert!(!ran.out.contains(SECRET) && !ran.err.contains(SECRET), "{}", ran.out);
    }
}
