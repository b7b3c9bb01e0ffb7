import { expect, test } from 'vitest'
import { atLeast, scopeText } from '../shared/roles'

test('roles are ordered', () => {
  expect(atLeast('owner', 'member')).toBe(true)
  expect(atLeast('administrator', 'owner')).toBe(true)
  expect(atLeast('recorder', 'member')).toBe(false)
  expect(atLeast(undefined, 'reader')).toBe(false)
  expect(atLeast('reader', 'reader')).toBe(true)
})

test('a scope in words', () => {
  expect(scopeText()).toBe('')
  expect(scopeText({ role: 'recorder', project: 'vessels', networks: ['10.1.0.0/16', '::1/128'] })).toBe(
    'recorder on vessels from 10.1.0.0/16, ::1/128',
  )
  expect(scopeText({ project: 'vessels' })).toBe('on vessels')
})
