//! The demo world: Skerrow Ferries, a made-up line in a made-up archipelago.
//!
//! A seed decides every byte: the same seed and the same number of tickets give the same files on
//! every machine. All names are invented.

mod dice;
mod small;
mod tickets;

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use dice::Dice;

/// Tickets that the demo writes where nothing else is said.
pub const DEFAULT_ROWS: u64 = 20_000;

/// The seed where nothing else is said.
pub const DEFAULT_SEED: u64 = 7;

/// The ports of the line; every route goes from Skerrow to one of them.
const PORTS: [&str; 14] = [
    "Holm",
    "Gannet Sound",
    "Tårnvik",
    "Eldersay",
    "Nether Skerry",
    "Quayle Point",
    "Ormsey",
    "Vassle",
    "Kittiwake Bay",
    "Long Strand",
    "Marrow Isle",
    "Pollen Head",
    "Sund",
    "Threnholm",
];

const VESSELS: [&str; 9] = [
    "Alca",
    "Grey Seal",
    "Morning Tern",
    "Petrel II",
    "Skua",
    "Thrift",
    "Undine",
    "Wrack",
    "Østersund Lass",
];

/// The first day of the world's two years, 1 January 2024, counted from 1970.
const FIRST_DAY: u32 = 19_723;
const DAYS: u32 = 731;

/// Writes all files of the world into `folder`. `wrote` hears of each byte count as it grows, and may
/// stop the work by returning `false`.
///
/// # Errors
/// A file that cannot be written, with its path.
pub fn write(
    folder: &Path,
    rows: u64,
    seed: u64,
) -> Result<Vec<PathBuf>, (PathBuf, std::io::Error)> {
    std::fs::create_dir_all(folder.join("crossings"))
        .map_err(|error| (folder.to_path_buf(), error))?;
    let mut written = Vec::new();
    let mut file = |name: &str, content: &mut dyn FnMut(&mut dyn Write) -> std::io::Result<()>| {
        let path = folder.join(name);
        let write = || {
            let mut file = BufWriter::with_capacity(1 << 20, File::create(&path)?);
            content(&mut file)?;
            file.flush()
        };
        let mut write = write;
        match write() {
            Ok(()) => {
                written.push(path);
                Ok(())
            }
            Err(error) => Err((path, error)),
        }
    };
    file("tickets.csv", &mut |out| tickets::tickets(out, rows, &mut Dice::new(seed, 1)))?;
    file("refused.csv", &mut |out| tickets::refused(out, &mut Dice::new(seed, 2)))?;
    for month in 1..=12 {
        let name = format!("crossings/2024-{month:02}.csv");
        file(&name, &mut |out| {
            small::crossings(out, month, &mut Dice::new(seed, 100 + u64::from(month)))
        })?;
    }
    file("gauges.tsv", &mut |out| small::gauges(out, rows / 4 + 1, &mut Dice::new(seed, 3)))?;
    file("vessels.csv", &mut |out| small::vessels(out, &mut Dice::new(seed, 4)))?;
    file("engines.ndjson", &mut |out| small::engines(out, rows / 20 + 1, &mut Dice::new(seed, 5)))?;
    Ok(written)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn contents(rows: u64, seed: u64) -> Vec<(PathBuf, Vec<u8>)> {
        let folder = tempfile::tempdir().unwrap();
        let files = write(folder.path(), rows, seed).unwrap();
        files
            .into_iter()
            .map(|file| {
                (
                    file.strip_prefix(folder.path()).unwrap().to_path_buf(),
                    std::fs::read(&file).unwrap(),
                )
            })
            .collect()
    }

    #[test]
    fn the_seed_decides_every_byte() {
        let first = contents(300, 7);
        assert_eq!(first, contents(300, 7));
        let other = contents(300, 8);
        assert!(first.iter().zip(&other).all(|(a, b)| a.0 == b.0 && a.1 != b.1));
        assert_eq!(first.len(), 17);
    }

    #[test]
    fn tickets_have_the_rows_asked_for() {
        for rows in [0, 1, 1000] {
            let (_, tickets) = contents(rows, 7).swap_remove(0);
            let mut reader = csv::Reader::from_reader(&tickets[..]);
            assert_eq!(reader.headers().unwrap().len(), 10);
            let records: Vec<_> = reader.records().map(|record| record.unwrap()).collect();
            assert_eq!(records.len() as u64, rows);
            assert!(
                records.iter().enumerate().all(|(at, record)| record[0] == (at + 1).to_string())
            );
        }
    }

    #[test]
    fn the_first_tickets_do_not_depend_on_how_many_follow() {
        let (short, long) = (contents(50, 7).swap_remove(0).1, contents(500, 7).swap_remove(0).1);
        assert!(long.starts_with(&short));
    }
}
