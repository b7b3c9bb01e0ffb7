import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Axis } from './curves'
import { useQuery } from '../shared/query'

/** How curves are looked at: axis, scale, smoothing, hidden first epochs, and which stretch. It is all in the link. */
export function useLook() {
  const route = useRoute()
  const router = useRouter()
  const zoom = useQuery<string>('zoom', '')
  const range = computed(() => {
    const [a, b] = zoom.value.split('~').map(Number)
    return zoom.value && Number.isFinite(a) && Number.isFinite(b) ? { from: a, to: b } : { from: null, to: null }
  })
  const setZoom = (from: number | null, to: number | null) => {
    zoom.value = from === null || to === null ? '' : `${Number(from.toPrecision(6))}~${Number(to.toPrecision(6))}`
  }
  const chosen = useQuery<Axis>('axis', 'epoch')
  /** Another axis shows its whole range. */
  const axis = computed<Axis>({
    get: () => chosen.value,
    set(to) {
      const query = { ...route.query, axis: to as string }
      delete (query as Record<string, unknown>).zoom
      if (to === 'epoch') delete (query as Record<string, unknown>).axis
      void router.replace({ query, hash: route.hash })
    },
  })
  return {
    axis,
    scale: useQuery<string>('scale', 'linear'),
    smooth: useQuery<number>('smooth', 0),
    kind: useQuery<string>('smoothing', 'mean'),
    hide: useQuery<number>('hide', 0),
    zoom,
    range,
    setZoom,
  }
}
