import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, expect, test, vi } from 'vitest'
import { client, type Project } from '../api/client'
import Moved from './Moved.vue'

afterEach(() => vi.unstubAllGlobals())

test('is asked for in sight, and again only when the best has changed', async () => {
  let come: (entries: { isIntersecting: boolean }[]) => void = () => {}
  vi.stubGlobal(
    'IntersectionObserver',
    class {
      constructor(f: typeof come) {
        come = f
      }
      observe() {}
      disconnect() {}
    },
  )
  const items = [{ run: 'vessels/1', started: '2026-11-01T00:00:00Z', best: 0.6 }]
  const asked = vi
    .spyOn(client, 'GET')
    .mockResolvedValue({ data: { items, earlier: false, since: 2, says: 'It stayed.' }, response: new Response() })
  const project = (best: number, runs: number) =>
    ({
      key: 'vessels',
      runs,
      best_run: 7,
      best: { value: best },
      objective: { curve: 'loss.val' },
    }) as unknown as Project

  const w = mount(Moved, { props: { project: project(0.6, 1) } })
  come([{ isIntersecting: false }])
  await flushPromises()
  expect(asked).not.toHaveBeenCalled()
  come([{ isIntersecting: true }])
  await flushPromises()
  expect(w.find('svg').attributes('aria-label')).toBe('It stayed.')
  await w.setProps({ project: project(0.6, 2) })
  await flushPromises()
  expect(asked).toHaveBeenCalledTimes(1)
  await w.setProps({ project: project(0.5, 2) })
  await flushPromises()
  expect(asked).toHaveBeenCalledTimes(2)
  await w.setProps({ project: { ...project(0.5, 2), best_run: undefined } })
  await flushPromises()
  expect(w.find('svg').exists()).toBe(false)
  expect(asked).toHaveBeenCalledTimes(2)
})
