import { expect, test } from 'vitest'
import { readNpy } from './npy'

function npy(descr: string, shape: string, body: ArrayBuffer, order = 'False', version = 1) {
  let head = `{'descr': '${descr}', 'fortran_order': ${order}, 'shape': ${shape}, }`
  while ((head.length + 11) % 64) head += ' '
  head += '\n'
  const out = new Uint8Array((version > 1 ? 12 : 10) + head.length + body.byteLength)
  out.set([0x93, ...new TextEncoder().encode('NUMPY'), version, 0, head.length & 255, head.length >> 8])
  out.set(new TextEncoder().encode(head), version > 1 ? 12 : 10)
  out.set(new Uint8Array(body), (version > 1 ? 12 : 10) + head.length)
  return out.buffer
}

test('arrays of any kind of number are read', () => {
  const six = [1, -2, 3, 4, 5, 6]
  for (const [descr, body] of [
    ['<f4', new Float32Array(six)],
    ['<f8', new Float64Array(six)],
    ['<i2', new Int16Array(six)],
    ['<i4', new Int32Array(six)],
    ['|i1', new Int8Array(six)],
    ['<i8', new BigInt64Array(six.map(BigInt))],
  ] as const) {
    expect(readNpy(npy(descr, '(2, 3)', body.buffer))).toEqual({
      rows: 2,
      columns: 3,
      values: new Float64Array(six),
    })
  }
  const turned = readNpy(npy('<f4', '(2, 3)', new Float32Array([1, 4, -2, 5, 3, 6]).buffer, 'True', 2))
  expect([...(turned?.values ?? [])]).toEqual(six)
  expect(readNpy(npy('<f4', '(6,)', new Float32Array(six).buffer))?.columns).toBe(6)
})

test('what is no such array is not drawn', () => {
  const body = new Float32Array(6).buffer
  for (const odd of [
    new ArrayBuffer(0),
    new TextEncoder().encode('a text that is longer than twelve bytes').buffer,
    npy('<f4', '(2, 4)', body),
    npy('<f4', '(0, 4)', body),
    npy('<f4', '(99999, 99999)', body),
    npy('<c8', '(2, 3)', body),
    npy('|O8', '(2, 3)', body),
  ]) {
    expect(readNpy(odd)).toBeUndefined()
  }
})
