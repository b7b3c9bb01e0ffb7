import { expect, test } from 'vitest'
import { shortType, subjectLink } from './deliveries'

test('events lead to the page of what they are of', () => {
  expect(shortType('internal.kembrel.model.entered')).toBe('model.entered')
  expect(subjectLink('vessel-classifier#3')).toEqual({
    name: 'edition',
    params: { model: 'vessel-classifier', edition: '3' },
  })
  expect(subjectLink('vessels/17')).toEqual({ name: 'run', params: { project: 'vessels', number: '17' } })
  expect(subjectLink('vessel-classifier/in-use')).toEqual({ name: 'model', params: { model: 'vessel-classifier' } })
  for (const none of ['hydrophone#3:test', 'vessels/17@best', '', 'vessels'] as const)
    expect(subjectLink(none)).toBeUndefined()
})
