// Reads and writes files by libraries that are not ours: node files.js read FILE prints its rows as lines of JSON, node files.js write FILE
// makes one of forty weights.
import { createReadStream, createWriteStream, readFileSync } from 'node:fs'
import avro from 'avsc'
import { parquetReadObjects } from 'hyparquet'
import { parquetWriteFile } from 'hyparquet-writer'

const [what, file] = process.argv.slice(2)

const text = (key, v) => (typeof v === 'bigint' ? Number(v) : v instanceof Date ? v.toISOString() : v instanceof Uint8Array ? Buffer.from(v).toString('base64') : v)
const print = (row) => process.stdout.write(JSON.stringify(row, (k, v) => text(k, v)) + '\n')

const weights = Array.from({ length: 40 }, (_, n) => ({
  truck: `L${n % 7}`, tonnes: n % 9 === 8 ? null : n / 4, axles: 2 + (n % 3), full: n % 2 === 0, at: Date.UTC(2026, 2, 1, 6, 0, n), goods: Array.from({ length: n % 4 }, (_, i) => `g${i}`)
}))

const schema = { type: 'record', name: 'weight', fields: [
  { name: 'truck', type: 'string' }, { name: 'tonnes', type: ['null', 'double'] }, { name: 'axles', type: 'int' }, { name: 'full', type: 'boolean' },
  { name: 'at', type: { type: 'long', logicalType: 'timestamp-millis' } }, { name: 'goods', type: { type: 'array', items: 'string' } }] }

if (what === 'read' && file.endsWith('.parquet')) {
  const bytes = readFileSync(file)
  for (const row of await parquetReadObjects({ file: bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.length) })) print(row)
} else if (what === 'read') {
  createReadStream(file).pipe(new avro.streams.BlockDecoder()).on('data', print)
} else if (file.endsWith('.parquet')) {
  const column = (name, type) => ({ name, type, data: weights.map((w) => w[name]) })
  parquetWriteFile({ filename: file, rowGroupSize: 15, columnData: [
    column('truck', 'STRING'), column('tonnes', 'DOUBLE'), column('axles', 'INT32'), column('full', 'BOOLEAN'),
    { ...column('at', 'TIMESTAMP'), data: weights.map((w) => new Date(w.at)) }, column('goods', 'JSON')] })
} else {
  const out = new avro.streams.BlockEncoder(schema, { codec: 'deflate' })
  out.pipe(createWriteStream(file))
  for (const w of weights) out.write(w)
  out.end()
}
