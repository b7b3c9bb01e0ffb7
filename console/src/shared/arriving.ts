import type { RouteLocationNormalized, Router } from 'vue-router'

/** Which page a place is, for the window's title; a page that knows a better name says it when it has been read. */
export function titleOf(to: Pick<RouteLocationNormalized, 'name' | 'params' | 'query'>): string {
  const p = (name: string) => String(to.params[name] ?? '')
  const run = `${p('project')}/${p('number')}`
  const titles: Record<string, string> = {
    projects: 'Projects',
    'sign-in': 'Sign in',
    enter: 'Sign in',
    storage: 'Storage',
    data: 'Data',
    snapshot: p('snapshot') ? `${p('dataset')}#${p('snapshot')}` : p('dataset'),
    catalogue: 'Catalogue',
    model: p('model'),
    edition: `${p('model')}#${p('edition')}`,
    lineage: to.query.of ? `Lineage of ${String(to.query.of)}` : 'Lineage',
    people: 'People and teams',
    account: 'Tokens and sessions',
    audit: 'Audit',
    'service-subscriptions': 'Subscriptions of the service',
    'project-access': `Access to ${p('project')}`,
    subscriptions: `Subscriptions of ${p('project')}`,
    'project-audit': `Audit of ${p('project')}`,
    'project-storage': `Storage of ${p('project')}`,
    runs: `Runs of ${p('project')}`,
    run,
    predictions: `Predictions of ${run}`,
    checkpoint: `${run}@${p('at')}`,
    compare: `Runs of ${p('project')} compared`,
  }
  return titles[String(to.name)] ?? 'There is nothing here'
}

export function setTitle(what: string) {
  document.title = `${what} · Kembrel`
}

/** How long a page may take to show its heading. */
const patience = 5000

/** Puts the focus on the page's heading as soon as it is there, unless somebody has begun to do something meanwhile. */
function focusHeading() {
  const began = document.activeElement
  const until = performance.now() + patience
  const look = () => {
    if (document.activeElement !== began && document.activeElement !== document.body) return
    const heading = document.querySelector<HTMLElement>('main h1')
    if (heading) {
      heading.tabIndex = -1
      heading.focus({ preventScroll: true })
    } else if (performance.now() < until) {
      window.setTimeout(look, 50)
    }
  }
  window.setTimeout(look)
}

/** Gives each page its title and, when somebody has gone there from another, puts the focus on its heading. */
export function arrive(router: Router) {
  let first = true
  router.afterEach((to, from) => {
    const title = titleOf(to)
    // filters, columns, the tray: the page is the same, and may have said a better title meanwhile
    if (first || to.path !== from.path || title !== titleOf(from)) setTitle(title)
    if (!first && to.path !== from.path) focusHeading()
    first = false
  })
}
