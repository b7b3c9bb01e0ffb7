import { mount } from '@vue/test-utils'
import { expect, test } from 'vitest'
import type { Checkpoint, RunDetail } from '../api/client'
import NextSteps from './NextSteps.vue'

const run = (state: string, command: string[] | undefined = ['train']) =>
  ({ address: 'vessels/3', state, recipe: { command } }) as unknown as RunDetail
const at = (epoch: number, more: object = {}) =>
  ({ address: `vessels/3@e${epoch}`, usable_for: 'resume', ...more }) as unknown as Checkpoint
/** What may be done, by its name: the command, or ''. */
function commands(r: RunDetail, checkpoints: Checkpoint[]) {
  const rows = mount(NextSteps, { props: { run: r, checkpoints } }).findAll('tr')
  return Object.fromEntries(
    rows.map((row) => [row.find('th').text(), row.find('code').exists() ? row.find('code').text() : '']),
  )
}

test('a run cut off goes on from its latest checkpoint that can', () => {
  const got = commands(run('failed'), [at(9, { usable_for: 'use' }), at(8), at(4, { best: true })])
  expect(got.Resume).toBe('kembrel resume vessels/3')
  expect(got.Branch).toBe('kembrel branch vessels/3@e4 --hyper NAME=VALUE')
  expect(got['Run again']).toBe('kembrel rerun vessels/3')
  expect(got.Restore).toBe('kembrel restore vessels/3@best --for-use --into model')
})

test('one that is finished needs a command that trains more', () => {
  expect(commands(run('finished'), [at(9)]).Resume).toBe('kembrel resume vessels/3 --more -- COMMAND')
})

test('with weights alone it says so in the command', () => {
  expect(commands(run('failed'), [at(9, { usable_for: 'weights only' })]).Resume).toBe(
    'kembrel resume vessels/3 --with weights',
  )
})

test('what a later leg replaced is not offered, nor what needs a checkpoint where there is none', () => {
  const got = commands(run('lost', []), [at(9, { replaced: true, best: true })])
  expect(got).toEqual({ Resume: '', Branch: '', 'Run again': '', Restore: '', Verify: '', 'Hand on': '' })
})
