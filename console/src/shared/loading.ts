import { computed, reactive } from 'vue'
import { once } from './live'

/** What goes wrong when a page is read, and how to make work that never overlaps itself and shows it until it succeeds. */
export function useLoading() {
  const problems = reactive(new Map<number, string>())
  let count = 0
  function loader(work: () => Promise<void>) {
    const mine = count++
    return once(async () => {
      try {
        await work()
        problems.delete(mine)
      } catch (e) {
        problems.set(mine, (e as Error).message)
      }
    })
  }
  return { problem: computed(() => [...new Set(problems.values())].join(' ')), loader }
}
