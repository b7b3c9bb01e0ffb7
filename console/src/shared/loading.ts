import { computed, reactive, ref } from 'vue'
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

/** Does what may be refused, and then reads the page again; what is wrong is said until the next time. */
export function useActing(load: () => Promise<unknown>) {
  const refused = ref('')
  async function act(work: () => Promise<unknown>) {
    refused.value = ''
    try {
      await work()
      await load()
    } catch (e) {
      refused.value = (e as Error).message
    }
  }
  return { refused, act }
}
