import { mount } from '@vue/test-utils'
import { afterEach, expect, test } from 'vitest'
import { nextTick } from 'vue'
import { routed, serving, until } from '../shared/testing'
import RunsTable from './RunsTable.vue'

let served: Awaited<ReturnType<typeof serving>> | undefined
afterEach(async () => {
  document.body.innerHTML = ''
  await served?.stop()
})

const column = (what: string, width: number) => ({ what, label: what, numeric: true, width, format: '' })

test('heads are one stop of Tab; arrows lead through them, and with Shift change a width', async () => {
  served = await serving({ 'GET /projects/vessels': { key: 'vessels', role: 'owner' } })
  const table = mount(RunsTable, {
    attachTo: document.body,
    global: { plugins: [routed()] },
    props: {
      project: 'vessels',
      columns: [column('best', 66), column('place', 44)],
      values: [],
      total: 0,
      row: () => undefined,
      sort: '',
      order: '',
      lower: true,
      tray: [],
      now: 0,
      titleWidth: 200,
    },
  })
  const heads = () => table.findAll('[data-head]')
  const stops = () => heads().map((h) => h.attributes('tabindex'))
  expect(stops()).toEqual(['0', '-1', '-1'])
  const press = async (i: number, key: string, shiftKey = false) => {
    await heads()[i].trigger('keydown', { key, shiftKey })
    await nextTick()
  }
  await press(0, 'ArrowRight')
  await press(1, 'ArrowRight')
  expect(document.activeElement).toBe(heads()[2].element)
  expect(stops()).toEqual(['-1', '-1', '0'])
  await press(2, 'ArrowRight')
  expect(document.activeElement).toBe(heads()[2].element)
  await press(2, 'ArrowLeft', true)
  await press(1, 'ArrowRight', true)
  expect(table.emitted('width')).toEqual([
    [1, 40],
    [0, 74],
  ])
  expect(table.find('[aria-live]').text()).toBe('best: 74 pixels wide')
  await table.setProps({ columns: [column('best', 74)] })
  expect(stops()).toEqual(['0', '-1'])
  await until(() => served?.asked.length === 1)
  table.unmount()
})
