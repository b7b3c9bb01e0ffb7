import { computed, reactive, ref, shallowRef } from 'vue'
import { answer, client, type Run } from '../api/client'

/** Runs on one page of the service's list, and from one landmark to the next. */
export const pageSize = 100

/** Pages kept; the farthest from what is looked at go first. */
const mostPages = 30

/** Which runs are listed, in which order, with which values. */
export interface Choice {
  where: string
  sort: string
  order: '' | 'ascending' | 'descending'
  shown: '' | 'archived' | 'deleted' | 'all'
  columns: string
}

/**
 * A list of runs of any length. Pages are read when a part of the list comes into view; landmarks say where each begins, so that any is one
 * request away.
 */
export function useRunList(project: string, choice: () => Choice) {
  const total = ref(0)
  const cursors = shallowRef<string[]>([])
  const pages = reactive(new Map<number, Run[]>())
  const known = ref(false)
  /** Why there is nothing, where the condition explains it. */
  const says = ref('')
  const busy = new Set<number>()
  let round = 0

  const query = () => {
    const c = choice()
    return { where: c.where, sort: c.sort, order: c.order, shown: c.shown }
  }
  const loaded = computed(() => [...pages.values()].flat())

  function row(i: number): Run | undefined {
    return pages.get(Math.floor(i / pageSize))?.[i % pageSize]
  }

  async function readPage(p: number, mine: number) {
    if (busy.has(p)) return
    busy.add(p)
    try {
      const cursor = p === 0 ? '' : cursors.value[p - 1]
      if (cursor === undefined) return
      const params = { path: { project }, query: { ...query(), cursor, limit: pageSize, columns: choice().columns } }
      const page = await answer(client.GET('/api/v1/projects/{project}/runs', { params }))
      if (mine !== round) return
      if (p === 0) says.value = page.says ?? ''
      pages.set(p, page.items ?? [])
      if (pages.size > mostPages) {
        const far = [...pages.keys()].sort((a, b) => Math.abs(b - p) - Math.abs(a - p))[0]
        pages.delete(far)
      }
    } finally {
      busy.delete(p)
    }
  }

  /** Sees to it that some rows are there. */
  async function ensure(from: number, to: number) {
    const work = []
    for (let p = Math.floor(from / pageSize); p <= Math.floor(Math.max(from, to - 1) / pageSize); p++) {
      if (!pages.has(p) && p * pageSize < Math.max(1, total.value)) work.push(readPage(p, round))
    }
    await Promise.all(work)
  }

  /** Reads the list anew: what is in view first, so that what is shown stays until the new is there. */
  async function reload(from: number, to: number) {
    const mine = ++round
    busy.clear()
    const params = { path: { project }, query: { ...query(), every: pageSize } }
    const counting = answer(client.GET('/api/v1/projects/{project}/runs/landmarks', { params }))
    counting.catch(() => undefined) // where the page fails first, it is that which is said
    const begins = from < pageSize
    if (begins) {
      // The first page needs no landmark, and is there before a long list is counted.
      await readPage(0, mine)
      if (mine !== round) return counting.then(() => undefined)
      const there = pages.get(0)?.length ?? 0
      if (!known.value || there < pageSize) total.value = there
      known.value = true
    }
    const marks = await counting
    if (mine !== round) return
    cursors.value = marks.cursors ?? []
    const first = Math.floor(from / pageSize)
    const last = Math.floor(Math.max(from, to - 1) / pageSize)
    const keep = new Set<number>()
    for (let p = first; p <= last && p * pageSize < Math.max(1, marks.total); p++) {
      keep.add(p)
      if (p > 0 || !begins) await readPage(p, mine)
    }
    if (mine !== round) return
    for (const p of [...pages.keys()]) if (!keep.has(p)) pages.delete(p)
    total.value = marks.total
    known.value = true
  }

  /** Reads some runs anew where they stand, without moving any. */
  async function patch(numbers: number[]) {
    const there = numbers.filter((n) => loaded.value.some((r) => r.number === n))
    if (!there.length) return
    const where = `number in [${there.slice(0, 200).join(', ')}]`
    const params = { path: { project }, query: { where, shown: 'all' as const, limit: 200, columns: choice().columns } }
    const page = await answer(client.GET('/api/v1/projects/{project}/runs', { params }))
    for (const fresh of page.items ?? []) {
      for (const list of pages.values()) {
        const i = list.findIndex((r) => r.number === fresh.number)
        if (i >= 0) list[i] = fresh
      }
    }
  }
  return { total, known, says, row, ensure, reload, patch, loaded }
}
