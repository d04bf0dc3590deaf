//! A shelf in memory as a target: it writes down every step, and fails at the one it is told to fail at.

use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use arrow_array::RecordBatch;
use typhos_core::columns::cell_text;
use typhos_core::run::{Monitor, RunOptions};
use typhos_core::schema::Schema;
use typhos_load::proof::SentFacts;
use typhos_load::witness::{Witness, prove_file};
use typhos_load::{
    Action, Awaited, Destination, Done, EncodeUnit, Encoder, Gate, Job, LoadError, LoadPlan,
    LoadReport, LoadRun, Moved, Problem, Proof, Sink, Target, TargetError, plan_of,
};

/// What a shelf is told to do wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// It is in nobody's reach.
    Planning,
    /// It is full when a load begins.
    Staging,
    /// It takes no rows that have this in their first column.
    Encoding(&'static str),
    /// It takes no second block.
    Appending,
    /// It loses the last row of the first block.
    Losing,
    /// It cannot make the rows visible.
    Publishing,
}

/// What is seen on it.
#[derive(Debug, Default)]
struct Seen {
    steps: Vec<&'static str>,
    rows: Vec<String>,
}

/// A shelf that rows can be put on.
#[derive(Debug, Clone)]
pub struct Shelf {
    fault: Option<Fault>,
    rejects: PathBuf,
    seen: Arc<Mutex<Seen>>,
}

impl Shelf {
    pub fn new(rejects: PathBuf) -> Shelf {
        Shelf { fault: None, rejects, seen: Arc::default() }
    }

    pub fn with(self, fault: Fault) -> Shelf {
        Shelf { fault: Some(fault), ..self }
    }

    /// The steps that were taken, those that follow one another told once.
    pub fn steps(&self) -> Vec<&'static str> {
        let mut steps = self.seen.lock().unwrap().steps.clone();
        steps.dedup();
        steps
    }

    /// How many blocks were taken.
    pub fn blocks(&self) -> usize {
        self.seen.lock().unwrap().steps.iter().filter(|step| **step == "append").count()
    }

    /// What readers see: rows, their values joined by spaces.
    pub fn rows(&self) -> Vec<String> {
        self.seen.lock().unwrap().rows.clone()
    }

    fn note(&self, step: &'static str) {
        self.seen.lock().unwrap().steps.push(step);
    }

    fn fails(&self, fault: Fault) -> Result<(), TargetError> {
        let broken = || Err(std::io::Error::other("the shelf broke"));
        match self.fault == Some(fault) {
            true => broken().map_err(TargetError::io("the shelf".as_ref())),
            false => Ok(()),
        }
    }
}

impl Destination for Shelf {
    fn rejects(&self) -> PathBuf {
        self.rejects.clone()
    }

    fn awaited(&self) -> Awaited {
        Awaited::Unseen
    }

    fn plan(&self, job: &Job<'_>) -> Result<LoadPlan, LoadError> {
        plan_of(self.clone(), job)
    }

    fn load(&self, run: LoadRun<'_>) -> Result<LoadReport, LoadError> {
        run.into(self.clone())
    }
}

impl Target for Shelf {
    type Encoder = Witness<Shelf>;
    type Sink = Pile;

    fn plan(&mut self, _job: &Job<'_>) -> Result<LoadPlan, TargetError> {
        self.note("plan");
        let problem = Problem::new("the shelf is out of reach", "fetch a ladder");
        Ok(LoadPlan {
            target: "the shelf".into(),
            server: None,
            table: None,
            action: Action::Create,
            exists: false,
            columns: Vec::new(),
            left: Vec::new(),
            notes: Vec::new(),
            problems: (self.fault == Some(Fault::Planning))
                .then_some(problem)
                .into_iter()
                .collect(),
            statements: Vec::new(),
        })
    }

    fn stage(
        self,
        job: &Job<'_>,
        _run: &mut RunOptions,
    ) -> Result<(Witness<Shelf>, Pile), TargetError> {
        self.note("stage");
        self.fails(Fault::Staging)?;
        let columns = job.plan.schema().columns.len();
        let pile = Pile {
            shelf: self.clone(),
            schema: job.plan.schema().clone(),
            gate: job.gate.clone(),
            sent: SentFacts::new(columns),
            there: SentFacts::new(columns),
            rows: Some(Vec::new()),
        };
        Ok((Witness { encoder: self, columns, keeps_facts: job.is_proven, flat: Vec::new() }, pile))
    }
}

impl Encoder for Shelf {
    type Encoded = Vec<RecordBatch>;
    type Unit<'e> = Armful<'e>;

    fn begin(&self, share: f64) -> Result<Armful<'_>, TargetError> {
        assert!((0.0..=1.0).contains(&share), "{share}");
        Ok(Armful { shelf: self, batches: Vec::new() })
    }
}

/// A block on its way.
pub struct Armful<'e> {
    shelf: &'e Shelf,
    batches: Vec<RecordBatch>,
}

impl EncodeUnit for Armful<'_> {
    type Encoded = Vec<RecordBatch>;

    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError> {
        for row in 0..batch.num_rows() {
            let first = cell_text(batch.column(0), row).unwrap_or_default();
            if let Some(Fault::Encoding(refused)) = self.shelf.fault
                && first == refused
            {
                let reason = "is too long for the shelf";
                return Err(TargetError::cannot_hold("boat", first, reason));
            }
        }
        self.batches.push(batch);
        Ok(())
    }

    fn finish(self) -> Result<Vec<RecordBatch>, TargetError> {
        Ok(self.batches)
    }
}

/// What is put on the shelf, under a cloth until it is published.
pub struct Pile {
    shelf: Shelf,
    schema: Schema,
    gate: Arc<Gate>,
    sent: SentFacts,
    there: SentFacts,
    /// Gone once it is published.
    rows: Option<Vec<String>>,
}

impl Sink for Pile {
    type Encoded = (Vec<RecordBatch>, SentFacts);

    fn append(
        &mut self,
        (batches, facts): Self::Encoded,
        _monitor: &dyn Monitor,
    ) -> Result<(), TargetError> {
        if self.shelf.blocks() > 0 {
            self.shelf.fails(Fault::Appending)?;
        }
        let loses = self.shelf.fault == Some(Fault::Losing) && self.shelf.blocks() == 0;
        self.shelf.note("append");
        self.sent.merge(facts);
        let rows = self.rows.as_mut().expect("nothing follows the end");
        for batch in batches {
            let kept = batch.slice(0, batch.num_rows() - usize::from(loses));
            self.there.add(&kept);
            for row in 0..kept.num_rows() {
                let cells =
                    kept.columns().iter().map(|column| cell_text(column, row).unwrap_or_default());
                rows.push(cells.collect::<Vec<_>>().join(" "));
            }
        }
        Ok(())
    }

    fn prove(&mut self, _monitor: &dyn Monitor) -> Result<Proof, TargetError> {
        self.shelf.note("prove");
        prove_file("the shelf".into(), &self.schema, &self.sent, &self.there)
    }

    fn publish(mut self, proof: Proof, _monitor: &dyn Monitor) -> Result<Done, TargetError> {
        self.shelf.fails(Fault::Publishing)?;
        self.gate.pass()?;
        self.shelf.note("publish");
        let rows = self.rows.take().expect("published once");
        let moved = Moved { inserted: rows.len() as u64, ..Moved::default() };
        self.shelf.seen.lock().unwrap().rows = rows;
        Ok(Done { proof, moved, files: Vec::new(), note: Some("mind the cloth".into()) })
    }
}

impl Drop for Pile {
    fn drop(&mut self) {
        if self.rows.take().is_some() {
            self.shelf.note("undo");
        }
    }
}
