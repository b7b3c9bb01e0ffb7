import { computed, onScopeDispose, ref, shallowReactive } from 'vue'

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

/** Streams that lost their connection a while ago. What their pages show may be behind. */
const cut = shallowReactive(new Set<object>())

/** Whether what is shown may be behind, as the live stream of some part of the page is cut off. */
export const behind = computed(() => cut.size > 0)

/** Milliseconds to wait before the nth attempt to reopen a stream: 1 s, doubled each time up to 30 s, shortened at random. */
export function reopenAfter(n: number, random = Math.random()) {
  return Math.min(30_000, 1000 * 2 ** n) * (1 - random / 2)
}

/** How long a cut lasts before the page says that it may be behind, in milliseconds. */
const behindTime = 3000

/**
 * Follows the live stream. After a dropped connection the browser reconnects by itself and the service replays what was missed.
 * After an answer that is no stream (a proxy's 502, a restart) the browser gives up, so the stream is reopened here. hello
 * comes with every connection, and what is not replayed is read again then. News may come faster than a handler works: make
 * what it calls with once.
 */
export function useLive(
  query: Record<string, string>,
  handlers: Partial<Record<Kind, (news: News) => Promise<void> | void>>,
) {
  const connected = ref(false)
  let source: EventSource | undefined
  let again = 0
  let late = 0
  let failures = 0
  const me = {}
  function arrived() {
    failures = 0
    connected.value = true
    clearTimeout(late)
    late = 0
    cut.delete(me)
  }
  function lost() {
    connected.value = false
    if (!late) late = window.setTimeout(() => cut.add(me), behindTime)
    if (source?.readyState !== EventSource.CLOSED) return // the browser reconnects by itself
    source.close()
    source = undefined
    again = window.setTimeout(open, reopenAfter(failures++))
  }
  function open() {
    clearTimeout(again)
    if (source) return
    source = new EventSource('/api/v1/events?' + new URLSearchParams(query).toString())
    source.onopen = arrived
    source.onerror = lost
    for (const [kind, handler] of Object.entries(handlers)) {
      source.addEventListener(kind, (e) => void handler(JSON.parse((e as MessageEvent<string>).data || '{}') as News))
    }
  }
  function close() {
    clearTimeout(again)
    clearTimeout(late)
    late = 0
    cut.delete(me)
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
