//! Encrypted connections: to servers that an authority vouches for which this machine trusts, and to no others.

use super::{Kind, certificate, for_each_server};
use crate::world::World;

#[test]
fn a_server_is_trusted_where_its_authority_is() {
    for_each_server(|server| {
        let database = server.database();
        let world = World::new();
        world
            .write("t.typhos.toml", "typhos = 1\ntable = 't'\n[columns]\nn = { type = 'int32' }\n")
            .write("t.csv", "n\n1\n2\n");
        certificate::make(&world.path("others"), "root");
        let port = format!(":{}/", server.port);
        let url = database.url().replace(&port, &format!(":{}/", server.encrypted_port));
        let line = format!("load t.typhos.toml t.csv --into {url}?encrypted=yes");
        let load = |authority: &std::path::Path| {
            let output = world.command(&line).env("SSL_CERT_FILE", authority).output().unwrap();
            (output.status.code(), String::from_utf8(output.stderr).unwrap())
        };
        let (status, said) = load(&world.path("others/authority.pem"));
        assert_eq!(status, Some(3), "{:?}: {said}", server.kind);
        assert!(said.contains("certificate"), "{:?}: {said}", server.kind);
        assert!(said.contains("SSL_CERT_FILE"), "{:?}: {said}", server.kind);
        assert_eq!(database.objects(), [""; 0], "{:?}", server.kind);
        let (status, said) = load(&server.authority());
        assert_eq!((status, said.contains("error")), (Some(0), false), "{:?}: {said}", server.kind);
        assert_eq!(database.one("SELECT sum(n) FROM t"), "3");
        // The URL can name the authority, and what the client shows of itself.
        let named = |more: &str| {
            let line = format!("{line}&ca={}{more} --mode replace", server.authority().display());
            let output = world.command(&line).output().unwrap();
            (output.status.code(), String::from_utf8(output.stderr).unwrap())
        };
        let (status, said) = named("");
        assert_eq!(status, Some(0), "{:?}: {said}", server.kind);
        let authority = server.authority();
        let own = authority.parent().unwrap().display();
        let (status, said) = named(&format!("&cert={own}/certificate.pem&key={own}/key.pem"));
        assert_eq!(status, Some(0), "{:?}: {said}", server.kind);
        let (status, said) = named("&cert=others/certificate.pem&key=others/names");
        assert!(status != Some(0) && said.contains("names"), "{:?}: {said}", server.kind);
        if server.kind == Kind::ClickHouse {
            // It takes encrypted connections at a port of their own.
            let plain = line.replace(&format!(":{}/", server.encrypted_port), &port);
            world.run(&plain).status(3);
        }
    });
}
