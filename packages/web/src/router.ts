import { createRouter, createWebHistory, type RouteLocationNormalized } from 'vue-router'
import ChangesView from './changes/ChangesView.vue'
import { stages } from './frame/stages.ts'
import { useSession } from './session/session.ts'
import TodayView from './today/TodayView.vue'

/** Where days begin and are spent comes with the first scripts; every other view is fetched when it is gone to. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/today' },
    { path: '/sign-in', name: 'sign-in', component: () => import('./session/SignIn.vue'), meta: { open: true } },
    { path: '/first', name: 'first', component: () => import('./session/FirstPerson.vue'), meta: { open: true } },
    { path: '/today', name: 'today', component: TodayView },
    { path: '/today/noticing', name: 'noticing', component: () => import('./noticing/NoticingView.vue') },
    { path: '/work', name: 'work', component: () => import('./work/WorkView.vue') },
    { path: '/custody', name: 'custody', component: () => import('./custody/CustodyView.vue') },
    { path: '/changes', name: 'changes', component: ChangesView },
    { path: '/records', name: 'records', component: () => import('./records/RecordsView.vue') },
    { path: '/records/reconciling', name: 'reconciling', component: () => import('./records/ReconcileView.vue') },
    { path: '/records/baselines', name: 'baselines', component: () => import('./records/BaselinesView.vue') },
    {
      path: '/records/baselines/:baselineId(\\d+)',
      name: 'baseline',
      component: () => import('./records/BaselineView.vue'),
    },
    { path: '/records/of/:typeId(\\d+)', name: 'standing', component: () => import('./records/StandingView.vue') },
    { path: '/records/:typeId(\\d+)', name: 'record', component: () => import('./records/RecordView.vue') },
    { path: '/corrections', name: 'corrections', component: () => import('./corrections/CorrectionsView.vue') },
    {
      path: '/corrections/:correctionId(\\d+)',
      name: 'correction',
      component: () => import('./corrections/CorrectionView.vue'),
    },
    { path: '/evidence', name: 'evidence', component: () => import('./evidence/EvidenceView.vue') },
    { path: '/evidence/making', name: 'making-pack', component: () => import('./evidence/PackMaking.vue') },
    { path: '/evidence/:packId(\\d+)', name: 'pack', component: () => import('./evidence/PackView.vue') },
    { path: '/evidence/cases', name: 'cases', component: () => import('./cases/CasesView.vue') },
    { path: '/evidence/cases/:caseId(\\d+)', name: 'case', component: () => import('./cases/CaseView.vue') },
    { path: '/check', name: 'check', component: () => import('./evidence/CheckView.vue'), meta: { open: true } },
    {
      path: '/handed/:token',
      name: 'handed',
      component: () => import('./evidence/HandedView.vue'),
      meta: { open: true },
    },
    { path: '/watches/guards', name: 'guards', component: () => import('./watches/GuardsView.vue') },
    { path: '/watches', name: 'watches', component: () => import('./watches/WatchesView.vue') },
    { path: '/tracking', name: 'tracking', component: () => import('./tracking/MapView.vue') },
    { path: '/tracking/plans', name: 'plans', component: () => import('./tracking/VersionsView.vue') },
    { path: '/tracking/coverage', name: 'coverage', component: () => import('./tracking/CoverageView.vue') },
    { path: '/tracking/who', name: 'who', component: () => import('./people/WhoView.vue') },
    { path: '/tracking/access', name: 'access', component: () => import('./people/AccessView.vue') },
    { path: '/:rest(.*)*', name: 'nothing', component: () => import('./frame/NothingHere.vue') },
  ],
})

/** What a page is made of is fetched while the server says who is signed in. */
function fetchAhead({ matched }: RouteLocationNormalized): void {
  for (const { components } of matched)
    for (const component of Object.values(components ?? {}))
      if (typeof component === 'function') void (component as () => Promise<unknown>)().catch(() => undefined)
}

router.beforeEach(async (to) => {
  const session = useSession()
  fetchAhead(to)
  await session.load()
  if (to.meta['open']) return true
  if (!session.person) return { name: 'sign-in', query: { next: to.fullPath } }
  return true
})

router.afterEach((to) => {
  const stage = stages.find(({ path }) => to.path.startsWith(path))
  document.title = stage ? `${stage.title} – Spoor` : 'Spoor'
})
