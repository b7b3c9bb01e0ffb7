import { computed, reactive } from 'vue'
import { answer, client, session } from '../api/client'
import { atLeast } from './roles'

/** What whoever is signed in is on each project, as far as it was asked. */
const known = reactive<Record<string, string>>({})

/** When each was asked for last, in milliseconds: a page of many rows asks once. */
const asked: Record<string, number> = {}

async function ask(project: string) {
  if (Date.now() - (asked[project] ?? 0) < 5000) return
  asked[project] = Date.now()
  try {
    known[project] = (await answer(client.GET('/api/v1/projects/{project}', { params: { path: { project } } }))).role
  } catch {
    delete known[project] // the page says what is wrong
  }
}

/**
 * What may be done on a project: what may not is not offered. The service decides; this only saves people from being refused. Until it is known
 * everything is offered.
 */
export function useMay(project: string) {
  void ask(project)
  const role = computed(() => known[project])
  /** Whether one is at least this, or a recorder who made the run in question. */
  const may = (needs: string, maker?: string) =>
    !role.value ||
    atLeast(role.value, needs) ||
    (!!maker && maker === session.me?.name && atLeast(role.value, 'recorder'))
  /** Why something is not offered. */
  const why = (needs: string) =>
    `Changing it needs the role ${needs}; you are ${role.value} here. Page Access says who gives it.`
  return { may, why }
}
