import type { Example } from '../api/client'
import { number as text, toNumber, type Float } from '../shared/format'

type Task = 'classes' | 'labels' | 'number' | 'text' | 'masks'

/** An answer as a person reads it: a class, several, a text, a number. */
export function told(one: string | undefined, several: string[] | null | undefined, value: Float | undefined): string {
  if (one !== undefined) return one
  if (several) return several.length ? several.join(', ') : 'none'
  return value === undefined ? '' : text(toNumber(value))
}
export const truthOf = (e: Example) => told(e.true, e.labels, e.target)
export const answerOf = (e: Example) => told(e.predicted, e.answered, e.value)

/** The condition that lists the examples of a cell; "" stands for nothing true or nothing answered. */
export function whereOf(task: Task, truth: string, answer: string): string {
  const [t, p] = [JSON.stringify(truth), JSON.stringify(answer)]
  if (task === 'classes') return `true == ${t} && predicted == ${p}`
  if (task === 'masks') return answer ? `${t} in true && ${p} in predicted` : `${t} in true && error > 0`
  if (truth === answer) return `${t} in true && ${p} in predicted`
  if (!truth) return `${p} in added`
  return answer ? `${t} in missed && ${p} in added` : `${t} in missed`
}

/** The condition that lists the examples of a class. */
export const ofClass = (task: Task, name: string) =>
  task === 'classes' ? `true == ${JSON.stringify(name)}` : `${JSON.stringify(name)} in true`

/** A text in three: what it begins with as another does, what is otherwise, what it ends with as the other does. */
export function apart(one: string, other: string): [string, string, string] {
  const [a, b] = [Array.from(one), Array.from(other)]
  let from = 0
  while (from < a.length && from < b.length && a[from] === b[from]) from++
  let to = 0
  while (to < a.length - from && to < b.length - from && a[a.length - 1 - to] === b[b.length - 1 - to]) to++
  const end = a.length - to
  return [a.slice(0, from).join(''), a.slice(from, end).join(''), a.slice(end).join('')]
}
