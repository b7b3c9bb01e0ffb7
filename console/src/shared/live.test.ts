import { expect, it } from 'vitest'
import { once } from './live'

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
