//! The metadata of a table, version 2, and how they change: the same changes that a catalog server is asked for are made here
//! for a catalog that is a database.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::types::TableSchema;

/// The version of the format that is written.
pub const FORMAT: u8 = 2;

/// The branch that readers see.
pub const MAIN: &str = "main";

/// Metadata files that a table remembers, beside the one at hand.
const REMEMBERED: usize = 100;

/// All that is known of a table. What nobody here asks about is kept as it is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct TableMetadata {
    /// The version of the format.
    pub format_version: u8,
    /// What tells the table from all others, whatever they are called.
    pub table_uuid: String,
    /// The URL of its folder.
    pub location: String,
    /// The number of the last snapshot.
    #[serde(default)]
    pub last_sequence_number: i64,
    /// When it changed, in milliseconds since 1970.
    pub last_updated_ms: i64,
    /// The highest number of a column that there ever was.
    pub last_column_id: i32,
    /// Its schemas, those of older snapshots too.
    #[serde(default)]
    pub schemas: Vec<TableSchema>,
    /// Which one new rows have.
    #[serde(default)]
    pub current_schema_id: i32,
    /// How its files are partitioned, or once were.
    #[serde(default)]
    pub partition_specs: Vec<PartitionSpec>,
    /// Which one new files have.
    #[serde(default)]
    pub default_spec_id: i32,
    /// The highest number of a partition that there ever was.
    #[serde(default)]
    pub last_partition_id: i32,
    /// In which orders rows stand in files.
    #[serde(default)]
    pub sort_orders: Vec<SortOrder>,
    /// Which one new files have.
    #[serde(default)]
    pub default_sort_order_id: i32,
    /// What else is said of it.
    #[serde(default)]
    pub properties: Map<String, Value>,
    /// The snapshot that readers see.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub current_snapshot_id: Option<i64>,
    /// The snapshots that there are.
    #[serde(default)]
    pub snapshots: Vec<Snapshot>,
    /// Which ones readers saw, and since when.
    #[serde(default)]
    pub snapshot_log: Vec<LogEntry>,
    /// Its older metadata files.
    #[serde(default)]
    pub metadata_log: Vec<Value>,
    /// Its branches and tags.
    #[serde(default)]
    pub refs: Map<String, Value>,
    /// What else there is.
    #[serde(flatten)]
    pub more: Map<String, Value>,
}

/// How files are partitioned.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartitionSpec {
    /// Its number.
    pub spec_id: i32,
    /// The partitions, the outer one first.
    pub fields: Vec<PartitionField>,
}

/// One partition.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartitionField {
    /// The column that it takes a part of.
    pub source_id: i32,
    /// Its number.
    pub field_id: i32,
    /// Its name.
    pub name: String,
    /// What it takes.
    pub transform: String,
}

/// In which order rows stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SortOrder {
    /// Its number; 0 is no order.
    pub order_id: i32,
    /// The columns, the first one first.
    pub fields: Vec<SortField>,
}

/// A column that rows are sorted by.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct SortField {
    /// What is taken of it.
    pub transform: String,
    /// The column.
    pub source_id: i32,
    /// `asc` or `desc`.
    pub direction: String,
    /// `nulls-first` or `nulls-last`.
    pub null_order: String,
}

/// The rows of a table at a time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Snapshot {
    /// Its number, drawn by lot.
    pub snapshot_id: i64,
    /// The one that it followed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent_snapshot_id: Option<i64>,
    /// Its place in the row of all snapshots.
    #[serde(default)]
    pub sequence_number: i64,
    /// When, in milliseconds since 1970.
    pub timestamp_ms: i64,
    /// The URL of the list of its manifests.
    #[serde(default)]
    pub manifest_list: String,
    /// What was done, and how much of it.
    #[serde(default)]
    pub summary: Map<String, Value>,
    /// The schema of its rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema_id: Option<i32>,
    /// What else there is.
    #[serde(flatten)]
    pub more: Map<String, Value>,
}

/// Since when readers saw a snapshot.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct LogEntry {
    /// When, in milliseconds since 1970.
    pub timestamp_ms: i64,
    /// Which one.
    pub snapshot_id: i64,
}

impl TableMetadata {
    /// A new table without columns, to which the changes that make it are applied.
    pub fn empty(table_uuid: &str, location: &str) -> TableMetadata {
        TableMetadata {
            format_version: FORMAT,
            table_uuid: table_uuid.to_owned(),
            location: location.to_owned(),
            last_sequence_number: 0,
            last_updated_ms: 0,
            last_column_id: 0,
            schemas: Vec::new(),
            current_schema_id: -1,
            partition_specs: Vec::new(),
            default_spec_id: -1,
            // The first partition has the number 1000.
            last_partition_id: 999,
            sort_orders: Vec::new(),
            default_sort_order_id: -1,
            properties: Map::new(),
            current_snapshot_id: None,
            snapshots: Vec::new(),
            snapshot_log: Vec::new(),
            metadata_log: Vec::new(),
            refs: Map::new(),
            more: Map::new(),
        }
    }

    /// The schema that new rows have.
    pub fn schema(&self) -> Option<&TableSchema> {
        self.schemas.iter().find(|schema| schema.schema_id == self.current_schema_id)
    }

    /// How new files are partitioned.
    pub fn spec(&self) -> Option<&PartitionSpec> {
        self.partition_specs.iter().find(|spec| spec.spec_id == self.default_spec_id)
    }

    /// In which order rows stand in new files.
    pub fn order(&self) -> Option<&SortOrder> {
        self.sort_orders.iter().find(|order| order.order_id == self.default_sort_order_id)
    }

    /// The snapshot that readers see.
    pub fn snapshot(&self) -> Option<&Snapshot> {
        // Some writers say -1 where there is none.
        let id = self.current_snapshot_id?;
        self.snapshots.iter().find(|snapshot| snapshot.snapshot_id == id)
    }

    /// A setting.
    pub fn property(&self, key: &str) -> Option<&str> {
        self.properties.get(key).and_then(Value::as_str)
    }

    /// The table after changes, at a time in milliseconds.
    pub fn after(&self, updates: &[Update], now: i64) -> TableMetadata {
        let mut table = self.clone();
        for update in updates {
            table.apply(update);
        }
        table.last_updated_ms = now.max(self.last_updated_ms);
        table
    }

    fn apply(&mut self, update: &Update) {
        match update {
            Update::AssignUuid { uuid } => self.table_uuid.clone_from(uuid),
            Update::UpgradeFormatVersion { format_version } => {
                self.format_version = *format_version
            }
            Update::SetLocation { location } => self.location.clone_from(location),
            Update::AddSchema { schema, last_column_id } => {
                self.last_column_id = self.last_column_id.max(*last_column_id);
                self.schemas.push(schema.clone());
            }
            Update::SetCurrentSchema { schema_id } => self.current_schema_id = *schema_id,
            Update::AddSpec { spec } => {
                let last = spec.fields.iter().map(|field| field.field_id).max().unwrap_or(0);
                self.last_partition_id = self.last_partition_id.max(last);
                self.partition_specs.push(spec.clone());
            }
            Update::SetDefaultSpec { spec_id } => self.default_spec_id = *spec_id,
            Update::AddSortOrder { sort_order } => self.sort_orders.push(sort_order.clone()),
            Update::SetDefaultSortOrder { sort_order_id } => {
                self.default_sort_order_id = *sort_order_id;
            }
            Update::SetProperties { updates } => {
                self.properties.extend(updates.iter().map(|(k, v)| (k.clone(), v.clone())));
            }
            Update::AddSnapshot { snapshot } => {
                self.last_sequence_number = snapshot.sequence_number;
                self.snapshots.push((**snapshot).clone());
            }
            Update::SetSnapshotRef { ref_name, snapshot_id, kind } => {
                let branch = serde_json::json!({ "snapshot-id": snapshot_id, "type": kind });
                self.refs.insert(ref_name.clone(), branch);
                if ref_name == MAIN {
                    self.current_snapshot_id = Some(*snapshot_id);
                    let known = self.snapshots.iter().find(|it| it.snapshot_id == *snapshot_id);
                    let timestamp_ms = known.map_or(self.last_updated_ms, |it| it.timestamp_ms);
                    self.snapshot_log.push(LogEntry { timestamp_ms, snapshot_id: *snapshot_id });
                }
            }
        }
    }

    /// Takes note of the file in which it was before.
    pub fn remember(&mut self, file: &str, at: i64) {
        self.metadata_log.push(serde_json::json!({ "metadata-file": file, "timestamp-ms": at }));
        let surplus = self.metadata_log.len().saturating_sub(REMEMBERED);
        self.metadata_log.drain(..surplus);
    }
}

/// A change of a table, as catalog servers are asked for it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "action", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum Update {
    AssignUuid {
        uuid: String,
    },
    UpgradeFormatVersion {
        format_version: u8,
    },
    AddSchema {
        schema: TableSchema,
        last_column_id: i32,
    },
    SetCurrentSchema {
        schema_id: i32,
    },
    AddSpec {
        spec: PartitionSpec,
    },
    SetDefaultSpec {
        spec_id: i32,
    },
    AddSortOrder {
        sort_order: SortOrder,
    },
    SetDefaultSortOrder {
        sort_order_id: i32,
    },
    SetLocation {
        location: String,
    },
    SetProperties {
        updates: Map<String, Value>,
    },
    AddSnapshot {
        snapshot: Box<Snapshot>,
    },
    SetSnapshotRef {
        ref_name: String,
        #[serde(rename = "type")]
        kind: String,
        snapshot_id: i64,
    },
}

/// What has to be so for changes to be made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all_fields = "kebab-case")]
pub enum Requirement {
    #[serde(rename = "assert-create")]
    Create,
    #[serde(rename = "assert-table-uuid")]
    TableUuid { uuid: String },
    #[serde(rename = "assert-ref-snapshot-id")]
    RefSnapshotId { r#ref: String, snapshot_id: Option<i64> },
    #[serde(rename = "assert-current-schema-id")]
    CurrentSchemaId { current_schema_id: i32 },
    #[serde(rename = "assert-default-spec-id")]
    DefaultSpecId { default_spec_id: i32 },
}

impl Requirement {
    /// Whether it is so.
    pub fn holds(&self, table: Option<&TableMetadata>) -> bool {
        match (self, table) {
            (Requirement::Create, table) => table.is_none(),
            (_, None) => false,
            (Requirement::TableUuid { uuid }, Some(table)) => table.table_uuid == *uuid,
            (Requirement::RefSnapshotId { r#ref, snapshot_id }, Some(table)) => {
                let known = table.refs.get(r#ref).and_then(|it| it["snapshot-id"].as_i64());
                let known = match known {
                    None if r#ref == MAIN => table.snapshot().map(|it| it.snapshot_id),
                    known => known,
                };
                known == *snapshot_id
            }
            (Requirement::CurrentSchemaId { current_schema_id }, Some(table)) => {
                table.current_schema_id == *current_schema_id
            }
            (Requirement::DefaultSpecId { default_spec_id }, Some(table)) => {
                table.default_spec_id == *default_spec_id
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn snapshot(snapshot_id: i64, sequence_number: i64) -> Box<Snapshot> {
        Box::new(Snapshot {
            snapshot_id,
            parent_snapshot_id: None,
            sequence_number,
            timestamp_ms: 7,
            manifest_list: "file:///list".into(),
            summary: Map::new(),
            schema_id: Some(0),
            more: Map::new(),
        })
    }

    #[test]
    fn changes_are_spelt_as_catalogs_have_them_and_do_what_they_say() {
        let updates = [
            Update::AddSnapshot { snapshot: snapshot(5, 1) },
            Update::SetSnapshotRef { ref_name: MAIN.into(), kind: "branch".into(), snapshot_id: 5 },
        ];
        assert_eq!(
            serde_json::to_value(&updates[1]).unwrap(),
            serde_json::json!({
                "action": "set-snapshot-ref", "ref-name": "main", "type": "branch", "snapshot-id": 5,
            })
        );
        let requirement = Requirement::RefSnapshotId { r#ref: MAIN.into(), snapshot_id: None };
        assert_eq!(
            serde_json::to_value(&requirement).unwrap(),
            serde_json::json!({ "type": "assert-ref-snapshot-id", "ref": "main", "snapshot-id": null })
        );
        let table = TableMetadata::empty("u", "file:///t");
        assert!(requirement.holds(Some(&table)) && !requirement.holds(None));
        let after = table.after(&updates, 9);
        assert!(!requirement.holds(Some(&after)));
        let numbers = (after.last_sequence_number, after.last_updated_ms);
        assert_eq!((numbers, after.snapshot().map(|it| it.snapshot_id)), ((1, 9), Some(5)));
        assert_eq!(after.snapshot_log, [LogEntry { timestamp_ms: 7, snapshot_id: 5 }]);
    }

    #[test]
    fn what_nobody_asks_about_is_kept() {
        let mut json = serde_json::to_value(TableMetadata::empty("u", "file:///t")).unwrap();
        json["statistics"] = serde_json::json!([{ "snapshot-id": 3 }]);
        json["current-snapshot-id"] = serde_json::json!(-1);
        let table: TableMetadata = serde_json::from_value(json.clone()).unwrap();
        assert!(table.snapshot().is_none());
        assert_eq!(serde_json::to_value(&table).unwrap(), json);
    }

    #[test]
    fn old_files_are_forgotten_after_a_while() {
        let mut table = TableMetadata::empty("u", "file:///t");
        (0..250).for_each(|at| table.remember(&format!("file-{at}"), at));
        assert_eq!(table.metadata_log.len(), REMEMBERED);
        assert_eq!(table.metadata_log[0]["metadata-file"], "file-150");
    }
}
