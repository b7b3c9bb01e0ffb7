import { afterEach, expect, it, vi } from 'vitest'
import { effectScope } from 'vue'
import { behind, once, reopenAfter, useLive } from './live'

/** A stream that is opened, and what the browser would say of it. */
class Stream extends EventTarget {
  static readonly CLOSED = 2
  static all: Stream[] = []
  readyState = 0
  onopen?: () => void
  onerror?: () => void
  constructor(readonly url: string) {
    super()
    Stream.all.push(this)
  }
  close() {
    this.readyState = 2
  }
  say(readyState: number) {
    this.readyState = readyState
    if (readyState === 1) this.onopen?.()
    else this.onerror?.()
  }
}

afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

it('reopens a stream that the browser gave up, later each time, and says when the page is behind', () => {
  vi.useFakeTimers()
  vi.stubGlobal('EventSource', Stream)
  Stream.all = []
  const scope = effectScope()
  scope.run(() => useLive({ project: 'vessels' }, {}))
  const last = () => Stream.all.at(-1)!
  last().say(1)
  last().say(0) // cut off: the browser connects again by itself
  vi.advanceTimersByTime(2000)
  expect(Stream.all.length).toBe(1)
  expect(behind.value).toBe(false)
  last().say(2) // answered 502: the browser gives up
  vi.advanceTimersByTime(1000)
  expect(Stream.all.length).toBe(2)
  for (let n = 1; n < 6; n++) {
    last().say(2)
    vi.advanceTimersByTime(reopenAfter(n, 0))
  }
  expect(Stream.all.length).toBe(7)
  expect(behind.value).toBe(true)
  last().say(1)
  expect(behind.value).toBe(false)
  last().say(2)
  scope.stop()
  vi.advanceTimersByTime(60_000)
  expect(Stream.all.length, 'a page that was left opens nothing').toBe(7)
  expect(behind.value).toBe(false)
})

it('waits from half a second to thirty', () => {
  expect(reopenAfter(0, 1)).toBe(500)
  expect(reopenAfter(3, 0)).toBe(8000)
  expect(reopenAfter(40, 0)).toBe(30_000)
})

it('never overlaps and never forgets the last call', async () => {
  let running = 0
  let most = 0
  let calls = 0
  const releases: (() => void)[] = []
  const call = once(async () => {
    calls++
    most = Math.max(most, ++running)
    await new Promise<void>((r) => releases.push(r))
    running--
  })
  const first = call()
  void call()
  void call()
  releases.shift()!()
  await new Promise((r) => setTimeout(r))
  releases.shift()!()
  await first
  expect(calls).toBe(2)
  expect(most).toBe(1)
})
