import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** A value kept in the link, so that sending the link sends the view; the default is left out. */
export function useQuery<T extends string | number>(name: string, initial: T) {
  const route = useRoute()
  const router = useRouter()
  return computed<T>({
    get() {
      const text = route.query[name]
      if (typeof text !== 'string') return initial
      if (typeof initial === 'number') {
        const n = Number(text)
        return (Number.isFinite(n) ? n : initial) as T
      }
      return text as T
    },
    set(value) {
      const query = { ...route.query }
      if (value === initial) delete query[name]
      else query[name] = String(value)
      void router.replace({ query, hash: route.hash })
    },
  })
}
