import { mount } from '@vue/test-utils'
import { afterEach, expect, test } from 'vitest'
import { serving, until } from './testing'
import type { StopState } from '../api/client'
import StopRule from './StopRule.vue'

let served: Awaited<ReturnType<typeof serving>> | undefined
afterEach(async () => {
  document.body.innerHTML = ''
  await served?.stop()
})

const project = { key: 'vessels', role: 'owner' }
const none: StopState = { said: 'none', from: 'none', left: 'NaN' }
const mounted = (state: StopState, more: object = {}) =>
  mount(StopRule, {
    attachTo: document.body,
    props: { project: 'vessels', number: 3, state, running: true, tries: [3], ...more },
  })
const press = (label: string) => {
  const button = [...document.querySelectorAll('button')].find((b) => b.textContent.trim() === label)
  if (!button) throw new Error(`no button ${label} among ${document.body.textContent}`)
  button.click()
}

test('says what the rule has come to', async () => {
  served = await serving({ 'GET /projects/vessels': project })
  const rule = { patience: 5, margin: 0, relative: false, earliest: 0, diverged: false }
  expect(mounted({ ...none, rule, from: 'run', said: 'no improvement in 5 epochs', left: 1 }).text()).toContain(
    'Stop rule of the run: no improvement in 5 epochs; 1 epoch of patience left.',
  )
  expect(mounted(none).text()).toContain('No stop rule.')
  expect(mounted(none, { running: false }).text()).not.toContain('No stop rule.')
  await until(() => served?.asked.length === 1)
})

test('sets a rule, which watches the objective unless a curve is named', async () => {
  served = await serving({
    'GET /projects/vessels': project,
    'PUT /projects/vessels/runs/3/stop-rule': none,
  })
  const shown = mounted(none)
  await shown.find('button').trigger('click')
  await until(() => document.querySelector('.fields') !== null)
  press('Set')
  await until(() => served?.changes().length === 1)
  const plain = { patience: 5, margin: 0, relative: false, earliest: 0, diverged: false }
  expect(served.changes()[0].body).toEqual({ rule: plain })
  await until(() => shown.emitted('changed') !== undefined)

  await shown.find('button').trigger('click')
  const curve = document.querySelector<HTMLInputElement>('.fields input[placeholder="loss.val"]')
  if (!curve) throw new Error('no field for the curve')
  curve.value = ' accuracy.val '
  curve.dispatchEvent(new Event('input'))
  const directions = () => document.querySelectorAll<HTMLInputElement>('.fields .el-segmented input[type=radio]')
  await until(() => directions().length === 2)
  directions()[1].click()
  press('Set')
  await until(() => served?.changes().length === 2)
  expect(served.changes()[1].body).toEqual({
    rule: { ...plain, objective: { curve: 'accuracy.val', direction: 'higher' } },
  })
})

test('says where another rule would have stopped, and what is wrong with one', async () => {
  const at = (epoch: number, value: number) => ({ curve: 'loss.val', epoch, step: 40 * epoch, value })
  const answers: Record<string, unknown> = {
    'GET /projects/soundings': { key: 'soundings', role: 'reader' },
    'POST /projects/soundings/stop-rule/try': {
      said: 'x',
      runs: [{ address: 'vessels/3', stop: at(9, 0.6), best: at(4, 0.5), saved_epochs: 1, lost: 0.01, saved_time: 3 }],
    },
  }
  served = await serving(answers)
  const shown = mounted(none, { project: 'soundings' })
  await until(() => shown.text().includes('try a stop rule'))
  await shown.find('button').trigger('click')
  await until(() => document.querySelector('.fields') !== null)
  press('Try')
  await until(() => document.body.textContent.includes('would have stopped'))
  expect(document.body.textContent).toContain(
    'vessels/3 would have stopped @e9: best until then 0.5000 @e4, 1 epoch saved, 0.01000 lost.',
  )
  expect(shown.emitted('tried')).toEqual([[{ epoch: 9, step: 360 }]])
  expect(document.body.textContent).not.toContain('Set ')
  answers['POST /projects/soundings/stop-rule/try'] = { status: 422, title: 'x', detail: 'give a patience, in epochs' }
  press('Try')
  await until(() => document.body.textContent.includes('give a patience, in epochs'))
})
