// Reads a Parquet file with two readers that are not ours and prints what each found: names, types and rows, integers with all their digits. Used by
// test/readers.
import { readFileSync } from 'node:fs'
import { parquetReadObjects, parquetSchema, parquetMetadata } from 'hyparquet'
import { compressors } from 'hyparquet-compressors'
import { readParquet } from 'parquet-wasm/node'
import { tableFromIPC } from 'apache-arrow'

const bytes = readFileSync(process.argv[2])
const buffer = bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength)
const plain = (v) =>
  typeof v === 'bigint'
    ? `${v}`
    : v instanceof Date
      ? v.toISOString()
      : typeof v === 'number' && !Number.isFinite(v)
        ? `${v}`
        : v === undefined
          ? null
          : v

const first = await parquetReadObjects({ file: buffer, compressors })
const types = Object.fromEntries(
  parquetSchema(parquetMetadata(buffer)).children.map((c) => [
    c.element.name,
    c.element.converted_type ?? c.element.logical_type?.type ?? c.element.type,
  ]),
)
const table = tableFromIPC(readParquet(new Uint8Array(bytes)).intoIPCStream())
const second = table.toArray().map((row) =>
  Object.fromEntries(
    table.schema.fields.map((f) => {
      const v = row[f.name]
      return [f.name, /^Timestamp/.test(`${f.type}`) && v !== null ? new Date(Number(v)).toISOString() : plain(v)]
    }),
  ),
)
console.log(
  JSON.stringify({
    types,
    first: first.map((r) => Object.fromEntries(Object.entries(r).map(([k, v]) => [k, plain(v)]))),
    second,
    arrow: Object.fromEntries(table.schema.fields.map((f) => [f.name, `${f.type}`])),
  }),
)
