//! `typhos emit`: a schema in another language.

use typhos_core::schema::Diagnostic;
use typhos_load::keep_apart;
use typhos_sql as sql;

use crate::args::Emit;
use crate::console::{self, Console, GOOD, paint, safe};
use crate::diagnose;
use crate::outcome::{Failure, Outcome};

pub fn run(args: &Emit, console: &mut Console) -> Result<Outcome, Failure> {
    let (schema, source) = diagnose::read_schema(&args.schema)?;
    if let Some(column) = schema.columns.iter().find(|column| column.auto) {
        let message = format!(
            "the type of '{}' is left to the data, and there is none here",
            column.name.escape_debug()
        );
        let wrong = Diagnostic {
            span: column.spans.name.clone(),
            message,
            help: Some(format!(
                "draft it first: typhos draft INPUT --keep {}",
                args.schema.display()
            )),
        };
        return Err(Failure::Schema(diagnose::show(&[wrong], &source, &args.schema)));
    }
    let language = sql::language(&args.language).expect("the command line knows the languages");
    let table = args.table.clone().or_else(|| schema.table.clone());
    let table = table.unwrap_or_else(|| super::table_name([&*args.schema.to_string_lossy()]));
    let emitted =
        language.emit(&schema, &table).map_err(|error| Failure::Usage(error.to_string()))?;
    // Beside the text, which may go on to another program.
    for note in &emitted.notes {
        console.note(format!("note: {}", safe(note)))?;
    }
    match &args.output {
        None => console.machine(emitted.text.trim_end())?,
        Some(path) => {
            keep_apart(&[("the schema", &args.schema)], &[("the output", path)])?;
            typhos_load::write_file(path, args.replace, emitted.text.as_bytes())?;
            console.say(format!(
                "{} {}: table {} for {}",
                paint(GOOD, "wrote"),
                console::path(path),
                safe(&table),
                language.of()
            ))?;
        }
    }
    Ok(Outcome::Clean)
}
