import { onScopeDispose, ref } from 'vue'

export type Kind =
  | 'hello'
  | 'person'
  | 'team'
  | 'role'
  | 'project'
  | 'search'
  | 'run'
  | 'leg'
  | 'checkpoint'
  | 'predictions'
  | 'file'
  | 'alarm'
  | 'model'
  | 'readings'
  | 'summary'
  | 'output'

/** What a piece of news is about. */
export interface News {
  project?: string
  run?: number
  verb?: string
}

/**
 * Follows the live stream. The browser connects again by itself after a cut and the service replays what was missed; hello
 * comes with every connection, so what is not replayed (readings) is read anew then. News may come faster than a handler works:
 * make what it calls with once.
 */
export function useLive(
  query: Record<string, string>,
  handlers: Partial<Record<Kind, (news: News) => Promise<void> | void>>,
) {
  const connected = ref(false)
  let source: EventSource | undefined
  function open() {
    if (source) return
    source = new EventSource('/api/v1/events?' + new URLSearchParams(query).toString())
    source.onopen = () => (connected.value = true)
    source.onerror = () => (connected.value = false)
    for (const [kind, handler] of Object.entries(handlers)) {
      source.addEventListener(kind, (e) => void handler(JSON.parse((e as MessageEvent<string>).data || '{}') as News))
    }
  }
  function close() {
    source?.close()
    source = undefined
    connected.value = false
  }
  // A browser gives a host six connections for all its tabs, and keeps pages that were left: only what is seen has one.
  let leaving = 0
  function seen() {
    clearTimeout(leaving)
    if (document.visibilityState === 'visible') open()
    else leaving = window.setTimeout(close, hiddenTime)
  }
  open()
  document.addEventListener('visibilitychange', seen)
  window.addEventListener('pagehide', close)
  window.addEventListener('pageshow', seen)
  onScopeDispose(() => {
    clearTimeout(leaving)
    document.removeEventListener('visibilitychange', seen)
    window.removeEventListener('pagehide', close)
    window.removeEventListener('pageshow', seen)
    close()
  })
  return { connected }
}

/** How long a tab that is not seen goes on hearing news, in milliseconds. */
const hiddenTime = 10_000

/** Makes work that never overlaps itself, whoever asks for it: asked for while it runs, it runs once more afterwards. */
export function once(work: () => Promise<void> | void) {
  let running = false
  let again = false
  return async () => {
    if (running) {
      again = true
      return
    }
    running = true
    do {
      again = false
      try {
        await work()
      } catch {
        // the next news tries again; what the person asked for shows its own errors
      }
    } while (again)
    running = false
  }
}
