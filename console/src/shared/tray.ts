import { computed } from 'vue'
import { useRoute, useRouter, type Router } from 'vue-router'

/** How many runs the tray holds. */
export const mostInTray = 200

const numbers = (text: unknown) =>
  typeof text === 'string'
    ? [...new Set(text.split(',').map(Number))].filter((n) => Number.isInteger(n) && n > 0).slice(0, mostInTray)
    : []

/** The runs put aside while reading, of the project that is open; they are part of the link. */
export function useTray() {
  const route = useRoute()
  const router = useRouter()
  const runs = computed(() => numbers(route.query.tray))
  function set(list: number[]) {
    const query = { ...route.query }
    if (list.length) query.tray = list.slice(0, mostInTray).join(',')
    else delete query.tray
    return router.replace({ query, hash: route.hash })
  }
  const has = (n: number) => runs.value.includes(n)
  const toggle = (n: number) => set(has(n) ? runs.value.filter((r) => r !== n) : [...runs.value, n])
  return { runs, has, toggle, clear: () => set([]), set }
}

/** The tray goes along from page to page of a project. */
export function keepTray(router: Router) {
  router.beforeEach((to, from) => {
    if (to.query.tray !== undefined || !from.query.tray || to.params.project !== from.params.project) return
    if (to.path === from.path) return // taken out of it here
    return { ...to, query: { ...to.query, tray: from.query.tray } }
  })
}

/** The colour of the n-th run or group of a view, and whether its line has the second dash. */
export const colourOf = (i: number) => `var(--c${(i % 8) + 1})`
