"""Reads tables of a lake with an independent library, holds every file against its manifest, and prints what is there.

Arguments: the properties of the catalog as JSON, the names of the tables.
"""

import json
import sys

import pyarrow.parquet
from pyiceberg.catalog import load_catalog
from pyiceberg.conversions import from_bytes
from pyiceberg.types import PrimitiveType


def leaves(schema):
    """The plain columns outside of lists: number, path, type."""

    def within(fields, path):
        for field in fields:
            here = path + [field.name]
            if isinstance(field.field_type, PrimitiveType):
                yield field.field_id, here, field.field_type
            elif hasattr(field.field_type, "fields"):
                yield from within(field.field_type.fields, here)

    return list(within(schema.fields, []))


def value_at(row, path):
    for name in path:
        if row is None:
            return None
        row = row[name]
    return row


def check(table, task):
    """Holds a file against what its manifest says of it."""
    file = task.file
    rows = rows_of(table, file)
    assert len(rows) == file.record_count, (file.file_path, len(rows), file.record_count)
    spec = table.specs()[file.spec_id]
    schema = table.schema()
    for at, field in enumerate(spec.fields):
        source = schema.find_field(field.source_id)
        take = field.transform.transform(source.field_type)
        stated = file.partition[at]
        path = schema.find_column_name(field.source_id).split(".")
        for row in rows:
            value = value_at(row, path)
            taken = None if value is None else take(plain(value, source.field_type))
            assert taken == stated, (file.file_path, field, value, taken, stated)
    for number, path, ty in leaves(schema):
        values = [value_at(row, path) for row in rows]
        if number in (file.value_counts or {}):
            assert file.value_counts[number] == len(values), (path, file.value_counts[number])
        if number in (file.null_value_counts or {}):
            nulls = sum(value is None for value in values)
            assert file.null_value_counts[number] == nulls, (path, nulls)
        numbers = [plain(v, ty) for v in values if v is not None and v == v]
        low, high = ((of or {}).get(number) for of in (file.lower_bounds, file.upper_bounds))
        if numbers and low is not None:
            assert comparable(from_bytes(ty, low)) <= min(map(comparable, numbers)), (path, low)
        if numbers and high is not None:
            assert comparable(from_bytes(ty, high)) >= max(map(comparable, numbers)), (path, high)


def comparable(value):
    # Texts are compared as their bytes.
    if isinstance(value, str):
        return value.encode()
    return value.bytes if hasattr(value, "bytes") else value


def plain(value, ty):
    """A value as the library's own transforms and bounds have it."""
    from pyiceberg.expressions.literals import literal

    word = str(ty)
    if word == "uuid":
        import uuid

        return value if isinstance(value, uuid.UUID) else uuid.UUID(bytes=bytes(value))
    if word in ("date", "time", "timestamp", "timestamptz"):
        return literal(value.isoformat()).to(ty).value
    return value


def rows_of(table, file):
    """The rows of one data file, in the types of the table."""
    from pyiceberg.io.pyarrow import ArrowScan
    from pyiceberg.expressions import AlwaysTrue
    from pyiceberg.table import FileScanTask

    scan = ArrowScan(table.metadata, table.io, table.schema(), AlwaysTrue())
    return scan.to_table([FileScanTask(file)]).to_pylist()


def shown(value):
    if isinstance(value, dict):
        return {key: shown(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [shown(inner) for inner in value]
    if value is None or isinstance(value, (bool, int, float)):
        return value
    if isinstance(value, bytes):
        return value.hex()
    return value.isoformat() if hasattr(value, "isoformat") else str(value)


def told(catalog, name):
    """A table, held against its manifests."""
    table = catalog.load_table(name)
    tasks = list(table.scan().plan_files())
    for task in tasks:
        check(table, task)
    schema = table.schema()
    return {
        "columns": [[it.field_id, it.name, str(it.field_type), it.required, it.doc] for it in schema.fields],
        "identifier": list(schema.identifier_field_ids),
        "partitions": [[it.name, str(it.transform), it.source_id] for it in table.spec().fields],
        "order": [[it.source_id, it.direction.name, it.null_order.name] for it in table.sort_order().fields],
        "snapshots": [
            {
                "operation": it.summary.operation.value,
                "rows": table.scan(snapshot_id=it.snapshot_id).to_arrow().num_rows,
                **it.summary.additional_properties,
            }
            for it in table.metadata.snapshots
        ],
        "files": [
            {
                "path": task.file.file_path,
                "partition": [shown(task.file.partition[at]) for at in range(len(task.file.partition))],
                "rows": task.file.record_count,
                "order": task.file.sort_order_id,
                "bounded": sorted((task.file.lower_bounds or {}).keys()),
            }
            for task in tasks
        ],
        "rows": shown(table.scan().to_arrow().to_pylist()),
    }


properties = json.loads(sys.argv[1])
catalog = load_catalog(properties.pop("name", "default"), **properties)
print(json.dumps({name: told(catalog, name) for name in sys.argv[2:]}))
