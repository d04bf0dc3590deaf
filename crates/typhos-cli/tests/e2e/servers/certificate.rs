//! Certificates for servers of tests: an authority of its own for each, and what it vouches for.

use std::fs;
use std::path::Path;
use std::process::Command;

use super::server::is_root;

/// Makes an authority, and a certificate for this machine with its key, which is a user's.
pub fn make(folder: &Path, user: &str) {
    fs::create_dir(folder).unwrap();
    let openssl = |line: &str| {
        let run = Command::new("openssl").args(line.split(' ')).current_dir(folder).output();
        let output = run.expect("openssl is installed");
        assert!(output.status.success(), "{line}\n{}", String::from_utf8_lossy(&output.stderr));
    };
    let key = "-newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes";
    openssl(&format!(
        "req -x509 {key} -keyout authority.key -out authority.pem -days 2 -subj /CN=Harbour"
    ));
    openssl(&format!("req {key} -keyout key.pem -out request.pem -subj /CN=localhost"));
    fs::write(folder.join("names"), "subjectAltName = IP:127.0.0.1, DNS:localhost\n").unwrap();
    openssl(
        "x509 -req -in request.pem -CA authority.pem -CAkey authority.key -CAcreateserial -days 2 -extfile names \
         -out certificate.pem",
    );
    if is_root() {
        let owned = Command::new("chown").arg("-R").arg(user).arg(folder).status().unwrap();
        assert!(owned.success());
    }
}
