import type { components } from '../api/schema.d'

export type Person = components['schemas']['Person']
export type Team = components['schemas']['Team']
export type GivenRole = components['schemas']['GivenRole']
export type Token = components['schemas']['Token']
export type Session = components['schemas']['Session']
export type Scope = components['schemas']['Scope']
export type Event = components['schemas']['Event']
export type RoleName = GivenRole['role']

/** The roles that can be given, each of which may what those before it may. */
export const roles: { name: RoleName; may: string }[] = [
  { name: 'reader', may: 'sees' },
  { name: 'recorder', may: 'also records runs' },
  { name: 'member', may: 'also changes, compares, archives, keeps, searches' },
  { name: 'approver', may: 'also signs off' },
  { name: 'owner', may: 'also gives roles, sets rules, deletes' },
]

const order = ['anyone', 'signed-in', ...roles.map((r) => r.name), 'administrator']

/** Whether a role is at least another. */
export const atLeast = (has: string | undefined, needs: string) => order.indexOf(has ?? '') >= order.indexOf(needs)

/** What a token is narrowed to, in a few words; "" where it is not. */
export function scopeText(s?: Scope) {
  if (!s) return ''
  const parts = [s.role, s.project && `on ${s.project}`, s.networks?.length && `from ${s.networks.join(', ')}`]
  return parts.filter(Boolean).join(' ')
}
