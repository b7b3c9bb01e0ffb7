import type { RouteLocationRaw } from 'vue-router'

/** A type of event without what all have in common: model.entered. */
export const shortType = (type: string) => type.replace(/^internal\.kembrel\./, '')

/** The page of what an event is of: an edition, a model or a run; undefined where it has none. */
export function subjectLink(subject: string): RouteLocationRaw | undefined {
  const edition = /^([a-z][a-z0-9-]*)#(\d+)$/.exec(subject)
  if (edition) return { name: 'edition', params: { model: edition[1], edition: edition[2] } }
  const run = /^([a-z][a-z0-9-]*)\/(\d+)$/.exec(subject)
  if (run) return { name: 'run', params: { project: run[1], number: run[2] } }
  const standing = /^([a-z][a-z0-9-]*)\/[a-z][a-z0-9-]*$/.exec(subject)
  if (standing) return { name: 'model', params: { model: standing[1] } }
  return undefined
}
