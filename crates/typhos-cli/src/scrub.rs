//! Passwords in the arguments of the process, where everybody on the machine may read them: the program starts itself again
//! without them, and hands them on in its environment, which only the same user may read.

use std::ffi::OsString;

use typhos_load::PASSWORD_VARIABLE;
use typhos_servers::ServerUrl;

/// Says to the process that was started again that there was a password.
const MARK: &str = "TYPHOS_PASSWORD_TYPED";

/// Whether there was a password in the arguments.
pub fn is_typed() -> bool {
    std::env::var_os(MARK).is_some()
}

/// An argument without the password in it, and that.
fn scrubbed(argument: &OsString) -> Option<(OsString, String)> {
    let text = argument.to_str()?;
    let (before, url) = match text.split_once('=') {
        Some((option, url)) if option.starts_with("--") => (format!("{option}="), url),
        _ => (String::new(), text),
    };
    let (url, password) = ServerUrl::without_password(url)?;
    Some(((before + &url).into(), password.reveal().to_owned()))
}

/// The arguments without a password, and that; `None` where there is none, or more than one.
fn all_scrubbed(arguments: &[OsString]) -> Option<(Vec<OsString>, String)> {
    let mut passwords = Vec::new();
    let plain = arguments.iter().map(|argument| match scrubbed(argument) {
        Some((plain, password)) => {
            passwords.push(password);
            plain
        }
        None => argument.clone(),
    });
    let plain = plain.collect();
    passwords.dedup();
    <[String; 1]>::try_from(passwords).ok().map(|[password]| (plain, password))
}

/// Starts the program again where there is a password in its arguments. Where that cannot be done, it goes on as it is.
#[cfg(unix)]
pub fn arguments() {
    use std::os::unix::process::CommandExt;

    let arguments: Vec<OsString> = std::env::args_os().collect();
    let Some((plain, password)) = all_scrubbed(&arguments) else { return };
    if is_typed() || std::env::var_os(PASSWORD_VARIABLE).is_some() {
        return;
    }
    let (Ok(program), Some((name, plain))) = (std::env::current_exe(), plain.split_first()) else {
        return;
    };
    // It returns only where it fails.
    let _ = std::process::Command::new(program)
        .arg0(name)
        .args(plain)
        .env(PASSWORD_VARIABLE, password)
        .env(MARK, "1")
        .exec();
}

/// Starts the program again without a password, on systems where a process can become another one.
#[cfg(not(unix))]
pub fn arguments() {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_taken_out_of_the_arguments() {
        let of = |line: &str| {
            let words: Vec<OsString> = line.split(' ').map(OsString::from).collect();
            all_scrubbed(&words).map(|(plain, password)| {
                let plain: Vec<_> = plain.iter().map(|word| word.to_string_lossy()).collect();
                (plain.join(" "), password)
            })
        };
        let plain = "typhos load s.toml a.csv --into postgres://u@h/d".to_owned();
        assert_eq!(of(&plain.replace("u@", "u:word@")), Some((plain.clone(), "word".into())));
        let joined = plain.replace("--into ", "--into=");
        assert_eq!(of(&joined.replace("u@", "u:word@")), Some((joined, "word".into())));
        assert_eq!(of(&plain), None);
        assert_eq!(of("typhos peek mysql://u:a@h/d mysql://u:b@h/d"), None);
    }
}
