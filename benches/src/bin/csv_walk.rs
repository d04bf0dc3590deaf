//! The bare walk that Typhos is measured against: every byte record of a file through the `csv` crate,
//! on one thread, with nothing done to it.
//!
//! Usage: `csv_walk FILE [DELIMITER]`. Prints records, fields and seconds.

use std::process::ExitCode;

#[expect(clippy::print_stdout, clippy::print_stderr, reason = "a bench tells its figures")]
fn main() -> ExitCode {
    let Some(path) = std::env::args().nth(1) else {
        eprintln!("usage: csv_walk FILE");
        return ExitCode::from(2);
    };
    let delimiter = std::env::args().nth(2).and_then(|word| word.bytes().next()).unwrap_or(b',');
    let started = std::time::Instant::now();
    let walk = || -> Result<(u64, u64), csv::Error> {
        let mut reader =
            csv::ReaderBuilder::new().flexible(true).delimiter(delimiter).from_path(&path)?;
        let mut record = csv::ByteRecord::new();
        let (mut records, mut fields) = (0, 0);
        while reader.read_byte_record(&mut record)? {
            records += 1;
            fields += record.len() as u64;
        }
        Ok((records, fields))
    };
    match walk() {
        Ok((records, fields)) => {
            println!(
                "{records} records, {fields} fields, {:.3} s",
                started.elapsed().as_secs_f64()
            );
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("csv_walk: {path}: {error}");
            ExitCode::FAILURE
        }
    }
}
