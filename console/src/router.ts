import { createRouter, createWebHistory } from 'vue-router'
import { session, whoAmI } from './api/client'
import { arrive } from './shared/arriving'
import { keepTray } from './shared/tray'
import Enter from './people/Enter.vue'
import Projects from './runs/Projects.vue'
import Runs from './runs/Runs.vue'
import SignIn from './people/SignIn.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'projects', component: Projects },
    { path: '/sign-in', name: 'sign-in', component: SignIn },
    { path: '/enter', name: 'enter', component: Enter },
    { path: '/storage', name: 'storage', component: () => import('./storage/Storage.vue') },
    { path: '/data', name: 'data', component: () => import('./data/Datasets.vue') },
    {
      path: '/data/:dataset([a-z][a-z0-9-]*)/:snapshot(\\d+)?',
      name: 'snapshot',
      component: () => import('./data/Snapshot.vue'),
      props: (r) => ({ dataset: r.params.dataset, at: Number(r.params.snapshot || 0) }),
    },
    { path: '/catalogue', name: 'catalogue', component: () => import('./catalogue/Models.vue') },
    {
      path: '/catalogue/:model([a-z][a-z0-9-]*)',
      name: 'model',
      component: () => import('./catalogue/Model.vue'),
      props: true,
    },
    {
      path: '/catalogue/:model([a-z][a-z0-9-]*)/:edition(\\d+)',
      name: 'edition',
      component: () => import('./catalogue/Edition.vue'),
      props: (r) => ({ model: r.params.model, edition: Number(r.params.edition) }),
    },
    {
      path: '/lineage',
      name: 'lineage',
      component: () => import('./lineage/Lineage.vue'),
      props: (r) => ({ of: typeof r.query.of === 'string' ? r.query.of : '' }),
    },
    { path: '/people', name: 'people', component: () => import('./people/People.vue') },
    { path: '/account', name: 'account', component: () => import('./people/Account.vue') },
    {
      path: '/subscriptions',
      name: 'service-subscriptions',
      component: () => import('./subscriptions/Subscriptions.vue'),
      props: { project: '*' },
    },
    { path: '/audit', name: 'audit', component: () => import('./people/Audit.vue') },
    {
      path: '/:project([a-z][a-z0-9-]*)/access',
      name: 'project-access',
      component: () => import('./people/Access.vue'),
      props: true,
    },
    {
      path: '/:project([a-z][a-z0-9-]*)/subscriptions',
      name: 'subscriptions',
      component: () => import('./subscriptions/Subscriptions.vue'),
      props: true,
    },
    {
      path: '/:project([a-z][a-z0-9-]*)/audit',
      name: 'project-audit',
      component: () => import('./people/Audit.vue'),
      props: true,
    },
    {
      path: '/:project([a-z][a-z0-9-]*)/storage',
      name: 'project-storage',
      component: () => import('./storage/Storage.vue'),
      props: true,
    },
    { path: '/:project([a-z][a-z0-9-]*)', name: 'runs', component: Runs, props: true },
    {
      path: '/:project([a-z][a-z0-9-]*)/:number(\\d+)',
      name: 'run',
      component: () => import('./run/Run.vue'),
      props: (r) => ({ project: r.params.project, number: Number(r.params.number) }),
    },
    {
      path: '/:project([a-z][a-z0-9-]*)/:number(\\d+)/predictions/:sheet(\\d+)?',
      name: 'predictions',
      component: () => import('./predictions/Predictions.vue'),
      props: (r) => ({
        project: r.params.project,
        number: Number(r.params.number),
        sheet: Number(r.params.sheet || 0),
      }),
    },
    {
      path: '/:project([a-z][a-z0-9-]*)/:number(\\d+)/checkpoints/:at',
      name: 'checkpoint',
      component: () => import('./checkpoints/Checkpoint.vue'),
      props: (r) => ({ project: r.params.project, number: Number(r.params.number), at: r.params.at }),
    },
    {
      path: '/:project([a-z][a-z0-9-]*)/compare',
      name: 'compare',
      component: () => import('./compare/Compare.vue'),
      props: true,
    },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./shared/Nowhere.vue') },
  ],
})

router.beforeEach(async (to) => {
  if (to.name === 'enter' || to.name === 'sign-in') return
  if (session.me === undefined) await whoAmI().catch(() => undefined)
  if (!session.me) return { name: 'sign-in', query: { next: to.fullPath } }
})

keepTray(router)
arrive(router)
