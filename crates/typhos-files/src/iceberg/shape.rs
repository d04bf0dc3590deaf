//! What a load makes of a table before it has rows: its columns, how its files are partitioned, in which order rows stand.

use serde::{Deserialize, Serialize};
use typhos_core::columns::Plan;
use typhos_core::remedy::Remedy;
use typhos_core::schema::{Partition, SortKey};
use typhos_load::{Mode, Problem};

use super::catalog::{Loaded, TableName};
use super::metadata::{
    FORMAT, MAIN, PartitionField, PartitionSpec, Requirement, SortField, SortOrder, TableMetadata,
    Update,
};
use super::transform::Transform;
use super::types::{TableSchema, notes};
use crate::parquet::{InTable, sorted_by_value};

/// The number of the first partition.
const FIRST_PARTITION: i32 = 1000;

/// What a load makes of a table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// The columns.
    pub schema: TableSchema,
    /// How files are partitioned.
    pub spec: PartitionSpec,
    /// The order of the rows of the load, where the table knows it; 0 is none.
    pub order: i32,
    /// What changes before there are rows.
    pub updates: Vec<Update>,
}

/// A shape, how files of it are written, and what is worth knowing of it.
pub type Shaped = (Shape, InTable, Vec<String>);

/// What a load makes of a table; or the problems.
pub fn shape(
    plan: &Plan,
    table: &TableName,
    base: &Loaded,
    mode: Mode,
) -> Result<Shaped, Vec<Problem>> {
    let is_new = base.file.is_empty();
    if !is_new && base.metadata.format_version != FORMAT {
        let version = base.metadata.format_version;
        return Err(vec![Problem::new(
            format!(
                "{table} has format version {version}, and only version {FORMAT} can be written"
            ),
            "upgrade it, or make a new table",
        )]);
    }
    match mode {
        Mode::Append | Mode::Refill if !is_new => fitting(plan, table, &base.metadata),
        _ => declared(plan, &base.metadata, is_new),
    }
}

/// The shape of a table that stays as it is.
fn fitting(
    plan: &Plan,
    table: &TableName,
    metadata: &TableMetadata,
) -> Result<Shaped, Vec<Problem>> {
    let rows = plan.arrow();
    let help = || Remedy::of("declare it so that the table takes it, or pass {mode = replace}");
    let broken = |what: &str| {
        vec![Problem::new(format!("the metadata of {table} name no {what}"), "ask who writes it")]
    };
    let schema = metadata.schema().ok_or_else(|| broken("columns"))?.clone();
    let spec = metadata.spec().ok_or_else(|| broken("partitions"))?.clone();
    let mut problems: Vec<Problem> = Vec::new();
    let stored = schema.stored(&rows);
    let filled = |name: &str| rows.fields().iter().any(|field| field.name() == name);
    for column in &schema.fields {
        let is_nullable =
            rows.field_with_name(&column.name).is_ok_and(arrow_schema::Field::is_nullable);
        if column.required && !filled(&column.name) {
            let what = format!(
                "the table's column '{}' is required, and the schema does not have it",
                column.name
            );
            problems.push(Problem::new(what, "declare it"));
        } else if column.required && is_nullable {
            let what = format!("'{}' may be absent, and is required in the table", column.name);
            problems.push(Problem::new(
                what,
                format!("declare {} = {{ …, required = true }}", column.name),
            ));
        }
    }
    let mut partition = Vec::new();
    for field in &spec.fields {
        let source = schema.fields.iter().find(|column| column.id == field.source_id);
        let transform = Transform::parse(&field.transform);
        match (source, transform) {
            (_, Some(Transform::Void)) => {}
            (Some(source), Some(Transform::Of(by))) if filled(&source.name) => {
                partition.push(Partition { column: source.name.clone(), by });
            }
            (Some(source), Some(_)) => {
                let what = format!(
                    "the table is partitioned by '{}', which the schema does not have",
                    source.name
                );
                problems.push(Problem::new(what, "declare it"));
            }
            _ => {
                let what = format!(
                    "the table is partitioned by {}, an unsupported transform",
                    field.transform
                );
                problems.push(Problem::new(what, "write to it with another program"));
            }
        }
    }
    let stored = match stored {
        Ok(stored) if problems.is_empty() => stored.into(),
        Ok(_) => return Err(problems),
        Err(wrong) => {
            problems.extend(wrong.into_iter().map(|what| Problem::new(what, help())));
            return Err(problems);
        }
    };
    let mut told = notes(&rows);
    let missing = schema.fields.iter().filter(|column| !filled(&column.name));
    let missing: Vec<_> = missing.map(|column| column.name.clone()).collect();
    if !missing.is_empty() {
        told.push(format!(
            "{} of the table will be null: not in the schema",
            typhos_core::wording::listed(&missing)
        ));
    }
    let declared = &plan.schema().layout.partition;
    if *declared != partition {
        told.push("files are partitioned as the table says, not as the schema does".into());
    }
    let wanted = sort_fields(&schema, plan);
    let order = metadata.order().filter(|order| !wanted.is_empty() && order.fields == wanted);
    let order = order.map_or(0, |order| order.order_id);
    Ok((Shape { schema, spec, order, updates: Vec::new() }, InTable { stored, partition }, told))
}

/// The shape of a table as it is declared, with what of it was there before.
fn declared(plan: &Plan, metadata: &TableMetadata, is_new: bool) -> Result<Shaped, Vec<Problem>> {
    let rows = plan.arrow();
    let docs: Vec<_> = plan.schema().columns.iter().map(|column| column.comment.clone()).collect();
    let refused = |wrong: Vec<String>| {
        let help = "declare microseconds, or text, in its place";
        wrong.into_iter().map(|what| Problem::new(what, help)).collect::<Vec<_>>()
    };
    let mut schema = TableSchema::of(&rows, &docs).map_err(refused)?;
    let mut updates = Vec::new();
    let mut told = notes(&rows);
    if let Some(current) = metadata.schema() {
        let mut next = metadata.last_column_id + 1;
        schema = schema.renumbered(current, &mut next);
    }
    let keys = plan.schema().layout.key.iter().filter_map(|name| schema.column(name));
    schema.identifier_field_ids = keys.map(|column| column.id).collect();
    let known = metadata.schemas.iter().find(|known| {
        (&known.fields, &known.identifier_field_ids)
            == (&schema.fields, &schema.identifier_field_ids)
    });
    match known {
        Some(known) => schema.schema_id = known.schema_id,
        None => {
            schema.schema_id = next_of(metadata.schemas.iter().map(|it| it.schema_id), 0);
            let last_column_id = schema.last_id().max(metadata.last_column_id);
            updates.push(Update::AddSchema { schema: schema.clone(), last_column_id });
        }
    }
    if schema.schema_id != metadata.current_schema_id {
        updates.push(Update::SetCurrentSchema { schema_id: schema.schema_id });
        if !is_new {
            told.push(
                "the columns of the table become those of the schema; older snapshots keep theirs"
                    .into(),
            );
        }
    }
    let partition = plan.schema().layout.partition.clone();
    let spec = spec_of(&schema, &partition, metadata)?;
    if !metadata.partition_specs.iter().any(|known| known.spec_id == spec.spec_id) {
        updates.push(Update::AddSpec { spec: spec.clone() });
    }
    if spec.spec_id != metadata.default_spec_id {
        updates.push(Update::SetDefaultSpec { spec_id: spec.spec_id });
        if !is_new {
            told.push("files are partitioned as the schema says from now on".into());
        }
    }
    let fields = sort_fields(&schema, plan);
    let order = match metadata.sort_orders.iter().find(|known| known.fields == fields) {
        Some(known) => known.order_id,
        None => {
            let order_id = match fields.is_empty() {
                true => 0,
                false => next_of(metadata.sort_orders.iter().map(|it| it.order_id), 1),
            };
            updates.push(Update::AddSortOrder { sort_order: SortOrder { order_id, fields } });
            order_id
        }
    };
    if order != metadata.default_sort_order_id {
        updates.push(Update::SetDefaultSortOrder { sort_order_id: order });
    }
    let stored = schema.stored(&rows).map_err(refused)?.into();
    Ok((Shape { schema, spec, order, updates }, InTable { stored, partition }, told))
}

/// The number behind all others, or the first one.
fn next_of(numbers: impl Iterator<Item = i32>, first: i32) -> i32 {
    numbers.max().map_or(first, |last| last + 1).max(first)
}

/// How files are partitioned as it is declared: a way that the table had before, or a new one.
fn spec_of(
    schema: &TableSchema,
    partition: &[Partition],
    metadata: &TableMetadata,
) -> Result<PartitionSpec, Vec<Problem>> {
    let known = || metadata.partition_specs.iter().flat_map(|spec| &spec.fields);
    let mut next = (metadata.last_partition_id + 1).max(FIRST_PARTITION);
    let mut fields = Vec::new();
    for partition in partition {
        let transform = Transform::Of(partition.by).to_string();
        let Some(source) = schema.column(&partition.column) else { continue };
        let name = partition.label();
        if name != partition.column && schema.column(&name).is_some() {
            return Err(vec![Problem::new(
                format!("the partition {partition} would be called '{name}', as a column is"),
                "rename the column",
            )]);
        }
        let same = known().find(|it| (it.source_id, &it.transform) == (source.id, &transform));
        let field_id = same.map_or_else(
            || {
                next += 1;
                next - 1
            },
            |same| same.field_id,
        );
        fields.push(PartitionField { source_id: source.id, field_id, name, transform });
    }
    let same = metadata.partition_specs.iter().find(|known| known.fields == fields);
    let spec_id = same.map_or_else(
        || next_of(metadata.partition_specs.iter().map(|it| it.spec_id), 0),
        |same| same.spec_id,
    );
    Ok(PartitionSpec { spec_id, fields })
}

/// The order of the rows as a table can say it.
fn sort_fields(schema: &TableSchema, plan: &Plan) -> Vec<SortField> {
    let field = |key: &SortKey| {
        let source = schema.column(&key.column)?;
        Some(SortField {
            transform: "identity".into(),
            source_id: source.id,
            direction: if key.descending { "desc".into() } else { "asc".into() },
            null_order: "nulls-last".into(),
        })
    };
    sorted_by_value(plan.schema()).map_while(field).collect()
}

/// What has to be so for a load into a table.
pub fn requirements(base: &Loaded) -> Vec<Requirement> {
    if base.file.is_empty() {
        return vec![Requirement::Create];
    }
    let metadata = &base.metadata;
    vec![
        Requirement::TableUuid { uuid: metadata.table_uuid.clone() },
        Requirement::RefSnapshotId {
            r#ref: MAIN.into(),
            snapshot_id: metadata.snapshot().map(|snapshot| snapshot.snapshot_id),
        },
        Requirement::CurrentSchemaId { current_schema_id: metadata.current_schema_id },
        Requirement::DefaultSpecId { default_spec_id: metadata.default_spec_id },
    ]
}
