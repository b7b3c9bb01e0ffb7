import { mount } from '@vue/test-utils'
import { afterEach, expect, test } from 'vitest'
import { routed, serving, until } from '../shared/testing'
import type { KeepState } from '../api/client'
import KeepRule from './KeepRule.vue'

let served: Awaited<ReturnType<typeof serving>> | undefined
afterEach(async () => {
  await served?.stop()
})

const state: KeepState = { said: 'all checkpoints stay', from: 'none' }
const best: KeepState = { said: 'keeps the best 3', from: 'project', rule: { best: 3 } }
const mounted = (given: KeepState, number?: number) =>
  mount(KeepRule, { props: { project: 'harbour-keep', number, state: given }, global: { plugins: [routed()] } })
const button = (w: ReturnType<typeof mounted>, label: string) => w.findAll('button').find((b) => b.text() === label)

test('a rule that says nothing cannot be set; what is set leaves out what says nothing', async () => {
  served = await serving({
    'GET /projects/harbour-keep': { key: 'harbour-keep', role: 'owner' },
    'PUT /projects/harbour-keep/keep-rule': best,
  })
  const w = mounted(state)
  expect(button(w, 'Set')?.attributes('disabled')).toBeDefined()
  await w.setProps({ state: best })
  expect(button(w, 'Set')?.attributes('disabled')).toBeUndefined()
  await button(w, 'Set')?.trigger('click')
  await until(() => w.emitted('changed') !== undefined)
  expect(served.changes()).toEqual([
    { method: 'PUT', path: '/projects/harbour-keep/keep-rule', body: { best: 3, grace: 7 } },
  ])
})

test('trying shows what stays and what is to be deleted, and changes nothing', async () => {
  const one = (epoch: number, stays: boolean) => ({
    address: `harbour-keep/1@e${epoch}`,
    epoch,
    step: 40 * epoch,
    stays,
    size: 1000,
    frees: 800,
    why: stays ? ['best'] : [],
  })
  served = await serving({
    'GET /projects/harbour-keep': { key: 'harbour-keep', role: 'reader' },
    'POST /projects/harbour-keep/keep-rule/try': {
      said: 'keeps the best 3',
      says: '1 of 2 would be deleted.',
      checkpoints: [one(1, true), one(2, false)],
    },
  })
  const w = mounted(best)
  await w.find('form').trigger('submit')
  await until(() => w.text().includes('1 of 2 would be deleted.'))
  expect(w.text()).toContain('Trying changes nothing.')
  expect(w.findAll('svg a circle')).toHaveLength(1)
  expect(w.findAll('svg a path')).toHaveLength(1)
  expect(w.findAll('td.n').map((c) => c.text())).toEqual(['1', '1', '800 B'])
  expect(w.emitted('changed')).toBeUndefined()
  expect(served.changes()).toHaveLength(1)
})

test('what the service refuses is said', async () => {
  served = await serving({
    'GET /projects/harbour-keep': { key: 'harbour-keep', role: 'owner' },
    'PUT /projects/harbour-keep/runs/4/keep-rule': { status: 403, title: 'x', detail: 'it needs the role member' },
  })
  const w = mounted(best, 4)
  await button(w, 'Set')?.trigger('click')
  await until(() => w.find('[role=alert]').exists())
  expect(w.find('[role=alert]').text()).toBe('it needs the role member')
  expect(w.emitted('changed')).toBeUndefined()
})
