//! Files of typed rows, damaged: what is read of them is an answer or an error.

use std::path::{Path, PathBuf};

use typhos_core::columns::{Plan, cell_text};
use typhos_core::read_schema as read;
use typhos_core::run::{NoMonitor, RunOptions};
use typhos_core::table::{Selection, Table, selected_rows};
use typhos_core::text::{Input, InputChoice};
use typhos_files::tables::{ArrowTable, ParquetTable};
use typhos_load::{Address, LoadOptions, load};

use crate::Dice;

/// Rows that are looked at.
const ROWS: usize = 20;

/// Sound files, and a folder for damaged ones.
pub struct Files {
    folder: tempfile::TempDir,
    parquet: Vec<Vec<u8>>,
    arrow: Vec<Vec<u8>>,
}

impl Files {
    pub fn new() -> Files {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let mut files = Files { folder, parquet: Vec::new(), arrow: Vec::new() };
        for compression in ["none", "snappy", "zstd"] {
            let text = format!(
                "typhos = 1\n[columns]\nn = {{ type = 'uint32' }}\nt = {{ type = 'text' }}\nw = {{ type = 'lowcard' }}\n\
                 c = {{ type = 'category', values = ['a', 'b'] }}\nf = {{ type = 'float64' }}\nd = {{ type = 'decimal(20,2)' }}\n\
                 b = {{ type = 'bool' }}\nday = {{ type = 'date', patterns = ['yyyy-MM-dd'] }}\n\
                 p = {{ type = 'geopoint' }}\nu = {{ type = 'uuid' }}\n[layout]\ncompression = '{compression}'\n"
            );
            let rows: String = (0..60)
                .map(|n| {
                    format!(
                        "{n},text {n},word {},{},{n}.5,{n}.25,{},2024-01-{:02},\"59.{n},-10.5\",6f9619ff-8b86-d011-b42d-00cf4fc964{n:02}\n",
                        n % 5,
                        if n % 2 == 0 { "a" } else { "b" },
                        n % 3 == 0,
                        1 + n % 28,
                    )
                })
                .collect();
            let input = format!("n,t,w,c,f,d,b,day,p,u\n{rows}");
            let input = Input::from_bytes("t.csv", input.into_bytes(), &InputChoice::default());
            let plan = Plan::new(read(&text).expect("a schema of ours"), &input).expect("it fits");
            let path = |name: &str| files.folder.path().join(format!("{compression}.{name}"));
            let options = LoadOptions {
                run: RunOptions::default(),
                mode: Default::default(),
                seen: Default::default(),
                is_proven: true,
                misfit_limit: None,
                rejects: path("rejects"),
                memory: typhos_load::DEFAULT_MEMORY,
                sort_memory: 64 << 20,
                is_counted: false,
                history: Vec::new(),
                statements: Default::default(),
                probes: Vec::new(),
            };
            let (file, arrow) = (path("parquet"), path("arrow"));
            for path in [&file, &arrow] {
                let into = path.to_str().expect("a plain name");
                let address = Address { into, table: "t", ..Address::default() };
                let destination = typhos_files::destination(&address).expect("a known extension");
                load(&input, &plan, &*destination, &options, &NoMonitor).expect("nothing stops it");
            }
            files.parquet.push(std::fs::read(file).expect("it was written"));
            files.arrow.push(std::fs::read(arrow).expect("it was written"));
        }
        files
    }

    fn damaged(&self, number: u64, sound: &[Vec<u8>]) -> PathBuf {
        let mut dice = Dice::of(number);
        let file = &sound[dice.below(sound.len())];
        let path = self.folder.path().join(format!("{:?}", std::thread::current().id()));
        std::fs::write(&path, dice.damaged(file)).expect("a temporary file");
        path
    }

    pub fn parquet(&self, number: u64) {
        let path = self.damaged(number, &self.parquet);
        if let Ok(mut table) = ParquetTable::open(&path) {
            look(&mut table);
        }
        seal(&path);
    }

    pub fn arrow(&self, number: u64) {
        let path = self.damaged(number, &self.arrow);
        if let Ok(mut table) = ArrowTable::open(&path) {
            look(&mut table);
        }
        seal(&path);
    }
}

fn look(table: &mut dyn Table) {
    let Ok((batches, _)) = selected_rows(table, &Selection::first(ROWS)) else { return };
    for batch in batches {
        for row in 0..batch.num_rows().min(ROWS) {
            batch.columns().iter().for_each(|column| _ = cell_text(column, row));
        }
    }
}

fn seal(path: &Path) {
    std::fs::remove_file(path).expect("it was written above");
}
