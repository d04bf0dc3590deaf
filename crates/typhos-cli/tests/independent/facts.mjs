// Facts of a Parquet file by a reader that Typhos did not write: for each column its physical and
// logical type, how many nulls, and the smallest and largest value, as JSON.
//
// Usage: node facts.mjs FILE
import { parquetMetadataAsync, parquetReadObjects } from 'hyparquet'
import { asyncBufferFromFile } from 'hyparquet/src/node.js'
import { compressors } from 'hyparquet-compressors'

const file = await asyncBufferFromFile(process.argv[2])
const metadata = await parquetMetadataAsync(file)
const rows = await parquetReadObjects({ file, metadata, compressors })

const text = value => {
  if (value instanceof Date) return value.toISOString()
  return String(value)
}

const columns = {}
for (const element of metadata.schema.slice(1)) {
  let nulls = 0
  let min
  let max
  for (const row of rows) {
    const value = row[element.name]
    if (value === null || value === undefined) { nulls++; continue }
    // By code points, as bytes of UTF-8 are ordered.
    if (min === undefined || value < min) min = value
    if (max === undefined || value > max) max = value
  }
  columns[element.name] = {
    physical: element.type,
    logical: element.logical_type ?? null,
    repetition: element.repetition_type,
    nulls,
    min: min === undefined ? null : text(min),
    max: max === undefined ? null : text(max),
  }
}
console.log(JSON.stringify(
  { rows: rows.length, row_groups: metadata.row_groups.length, created_by: metadata.created_by, columns },
  (_, value) => typeof value === 'bigint' ? String(value) : value,
))
