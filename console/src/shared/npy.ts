/** A two-dimensional array, row by row. */
export interface Grid {
  rows: number
  columns: number
  values: Float64Array
}

const largest = 4_000_000

/**
 * Reads an NPY file (format versions 1 to 3) of numbers as a grid: of a vector one row, of more dimensions the first
 * plane. Undefined where it is something else, or too large to be drawn.
 */
export function readNpy(buffer: ArrayBuffer): Grid | undefined {
  const bytes = new Uint8Array(buffer)
  if (bytes.length < 12 || String.fromCharCode(...bytes.slice(1, 6)) !== 'NUMPY') return undefined
  const data = new DataView(buffer)
  const wide = (bytes[6] ?? 1) > 1
  const length = wide ? data.getUint32(8, true) : data.getUint16(8, true)
  const start = (wide ? 12 : 10) + length
  if (start > bytes.length) return undefined
  const head = new TextDecoder().decode(bytes.slice(wide ? 12 : 10, start))
  const descr = /'descr':\s*'([<>|=])([fiub])(\d)'/.exec(head)
  const shape = /'shape':\s*\(([\d,\s]*)\)/.exec(head)
  if (!descr || !shape) return undefined
  const sizes = (shape[1] ?? '')
    .split(',')
    .map((s) => s.trim())
    .filter(Boolean)
    .map(Number)
  const rows = sizes.length < 2 ? 1 : (sizes[0] ?? 0)
  const columns = sizes.length === 0 ? 1 : ((sizes.length < 2 ? sizes[0] : sizes[1]) ?? 0)
  const size = Number(descr[3])
  const little = descr[1] !== '>'
  const turned = /'fortran_order':\s*True/.test(head)
  const count = rows * columns
  if (count === 0 || count > largest || start + count * size > bytes.length) return undefined
  const at = reader(data, `${descr[2] ?? ''}${size}`, little)
  if (!at) return undefined
  const values = new Float64Array(count)
  for (let r = 0; r < rows; r++) {
    for (let c = 0; c < columns; c++) {
      values[r * columns + c] = at(start + (turned ? c * rows + r : r * columns + c) * size)
    }
  }
  return { rows, columns, values }
}

function reader(data: DataView, kind: string, little: boolean): ((at: number) => number) | undefined {
  switch (kind) {
    case 'f4':
      return (at) => data.getFloat32(at, little)
    case 'f8':
      return (at) => data.getFloat64(at, little)
    case 'i1':
      return (at) => data.getInt8(at)
    case 'u1':
    case 'b1':
      return (at) => data.getUint8(at)
    case 'i2':
      return (at) => data.getInt16(at, little)
    case 'u2':
      return (at) => data.getUint16(at, little)
    case 'i4':
      return (at) => data.getInt32(at, little)
    case 'u4':
      return (at) => data.getUint32(at, little)
    case 'i8':
      return (at) => Number(data.getBigInt64(at, little))
    case 'u8':
      return (at) => Number(data.getBigUint64(at, little))
  }
  return undefined
}
