import type { Description } from '../api/client'

type Share = { value: number; low?: number; high?: number } | undefined

const share = (i: Share) =>
  i === undefined
    ? ''
    : i.low === undefined || i.high === undefined
      ? i.value.toFixed(2)
      : `${i.value.toFixed(2)} (${i.low.toFixed(2)} to ${i.high.toFixed(2)})`

/** 1: surely more than the other, -1: surely less, 0: their intervals have something in common, or are not known. */
function apart(a: Share, b: Share) {
  if (a?.low === undefined || b?.low === undefined || a.high === undefined || b.high === undefined) return 0
  return a.low > b.high ? 1 : a.high < b.low ? -1 : 0
}

/** Recalls by class of an edition, and of another on the same data, unless one of them has seen that in training. */
export function byClass(description: Description, other?: Description) {
  return (description.classes ?? []).map((on) => {
    const seen = [description, other].flatMap((d) => (d?.seen?.includes(on.on) ? [d.number] : []))
    const theirs = seen.length ? undefined : other?.classes?.find((o) => o.on === on.on)
    const classes = (on.classes ?? []).map((c) => {
      const their = theirs?.classes?.find((o) => o.name === c.name)
      const far = apart(c.recall, their?.recall)
      const d = c.recall && their?.recall ? c.recall.value - their.recall.value : undefined
      const signed = d === undefined ? '' : `${d < 0 ? '−' : '+'}${Math.abs(d).toFixed(2)}`
      return {
        name: c.name,
        examples: c.true,
        mine: share(c.recall),
        theirs: share(their?.recall),
        apart: far,
        says: signed && (far ? signed : `${signed}, within noise`),
      }
    })
    return { on: on.on, compared: !!theirs, seen, classes }
  })
}
