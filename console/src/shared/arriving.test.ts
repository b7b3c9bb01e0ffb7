import { flushPromises, mount } from '@vue/test-utils'
import { expect, test, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import { createMemoryHistory, createRouter, RouterView } from 'vue-router'
import { arrive, titleOf } from './arriving'

const at = (name: string, params: Record<string, string> = {}, query = {}) => titleOf({ name, params, query })

test('each place has a name of its own', () => {
  expect(at('run', { project: 'vessels', number: '17' })).toBe('vessels/17')
  expect(at('checkpoint', { project: 'vessels', number: '17', at: 'e12' })).toBe('vessels/17@e12')
  expect(at('edition', { model: 'vessel-classifier', edition: '3' })).toBe('vessel-classifier#3')
  expect(at('lineage', {}, { of: 'vessels/3' })).toBe('Lineage of vessels/3')
  expect(at('nowhere')).toBe('There is nothing here')
})

test('whoever goes to another page stands at its heading; a filter of the same page moves nothing', async () => {
  vi.useFakeTimers()
  const page = (text: string) => defineComponent(() => () => h('main', [h('h1', text), h('input')]))
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [
      { path: '/', name: 'projects', component: page('Projects') },
      { path: '/data', name: 'data', component: page('Data') },
    ],
  })
  arrive(router)
  await router.push('/')
  const app = mount(RouterView, { global: { plugins: [router] }, attachTo: document.body })
  await flushPromises()
  vi.runAllTimers()
  expect(document.title).toBe('Projects · Kembrel')
  expect(document.activeElement).toBe(document.body)
  await router.push('/data')
  await flushPromises()
  vi.runAllTimers()
  expect(document.title).toBe('Data · Kembrel')
  expect(document.activeElement?.textContent).toBe('Data')
  document.querySelector('input')?.focus()
  await router.push('/data?where=1')
  await flushPromises()
  vi.runAllTimers()
  expect(document.activeElement?.tagName).toBe('INPUT')
  app.unmount()
  vi.useRealTimers()
})
