import { decode, type TagDecoder } from 'cborg'
import { answer, type Problem } from './client'

type Numbers = ArrayLike<number>

/** The binary form of curves (docs/curves.md): CBOR with the typed arrays of RFC 8746. */
export interface ReadCurves {
  legs: number
  width: number
  axes: { step: Numbers; epoch: Numbers; time: Numbers }[]
  curves: {
    name: string
    axis: number
    value: Numbers
    smooth?: Numbers | null
    count?: Numbers | null
    nan?: Numbers | null
    infinite?: Numbers | null
    min?: Numbers | null
    max?: Numbers | null
    mean?: Numbers | null
  }[]
}

const copied = (b: Uint8Array) => b.slice().buffer

/** 64-bit whole numbers as floats: steps and milliseconds are far below 2^53. */
function whole(b: Uint8Array): Float64Array {
  const view = new DataView(b.buffer, b.byteOffset, b.byteLength)
  const out = new Float64Array(b.byteLength / 8)
  for (let i = 0; i < out.length; i++) out[i] = Number(view.getBigInt64(8 * i, true))
  return out
}

const typed =
  (make: (b: Uint8Array) => Numbers): TagDecoder =>
  (content) =>
    make(content() as Uint8Array)

const tags = {
  78: typed((b) => new Int32Array(copied(b))),
  79: typed(whole),
  85: typed((b) => new Float32Array(copied(b))),
  86: typed((b) => new Float64Array(copied(b))),
}

export function decodeCurves(data: Uint8Array): ReadCurves {
  return decode(data, { tags }) as ReadCurves
}

/** Reads curves of a run in the binary form. */
export async function readCurves(
  project: string,
  number: number,
  query: Record<string, string | number>,
): Promise<ReadCurves> {
  const text = new URLSearchParams(Object.entries(query).map(([k, v]): [string, string] => [k, String(v)]))
  const call = async () => {
    const response = await fetch(`/api/v1/projects/${project}/runs/${number}/curves?${text.toString()}`, {
      headers: { Accept: 'application/cbor' },
    })
    if (!response.ok) return { error: (await response.json()) as Problem, response }
    return { data: decodeCurves(new Uint8Array(await response.arrayBuffer())), response }
  }
  return answer(call())
}
