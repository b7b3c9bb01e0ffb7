import { expect, test } from 'vitest'
import type { Example } from '../api/client'
import { answerOf, apart, ofClass, truthOf, whereOf } from './answers'

test('answers are told whatever they are', () => {
  expect(truthOf({ true: 'tug' } as Example)).toBe('tug')
  expect(answerOf({ answered: ['tug', 'ferry'] } as unknown as Example)).toBe('tug, ferry')
  expect(answerOf({ answered: [] } as unknown as Example)).toBe('none')
  expect(truthOf({ target: 1.5 } as Example)).toBe('1.500')
  expect(truthOf({} as Example)).toBe('')
})

test('a cell lists its examples', () => {
  expect(whereOf('classes', 'tug', 'ferry')).toBe('true == "tug" && predicted == "ferry"')
  expect(whereOf('labels', 'tug', 'ferry')).toBe('"tug" in missed && "ferry" in added')
  expect(whereOf('labels', 'tug', '')).toBe('"tug" in missed')
  expect(whereOf('labels', '', 'tug')).toBe('"tug" in added')
  expect(whereOf('labels', 'tug', 'tug')).toBe('"tug" in true && "tug" in predicted')
  expect(whereOf('masks', 'hull', 'water')).toBe('"hull" in true && "water" in predicted')
  expect(ofClass('labels', 'a "b"')).toBe('"a \\"b\\"" in true')
})

test('what is otherwise in a text is found', () => {
  expect(apart('wind north', 'wind forth')).toEqual(['wind ', 'n', 'orth'])
  expect(apart('aaa', 'aa')).toEqual(['aa', 'a', ''])
  expect(apart('', 'fog')).toEqual(['', '', ''])
})
