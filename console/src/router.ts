import { createRouter, createWebHistory } from 'vue-router'

import { useSession } from './state/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./pages/SignIn.vue'),
      meta: { title: 'Sign in', open: true },
    },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue'), meta: { title: 'Overview' } },
    { path: '/runs', name: 'runs', component: () => import('./pages/Runs.vue'), meta: { title: 'Runs' } },
    {
      path: '/runs/:id(\\d+)',
      name: 'run',
      component: () => import('./pages/Run.vue'),
      meta: { title: 'Run', place: 'runs' },
    },
    {
      path: '/problems',
      name: 'problems',
      component: () => import('./pages/Problems.vue'),
      meta: { title: 'Problems' },
    },
    {
      path: '/problems/:id(\\d+)',
      name: 'problem',
      component: () => import('./pages/Problem.vue'),
      meta: { title: 'Problem', place: 'problems' },
    },
    {
      path: '/notices',
      name: 'notices',
      component: () => import('./pages/Notices.vue'),
      meta: { title: 'Notices', place: 'audit' },
    },
    {
      path: '/report',
      name: 'report',
      component: () => import('./pages/Report.vue'),
      meta: { title: 'Report', place: 'audit' },
    },
    {
      path: '/operators',
      name: 'operators',
      component: () => import('./pages/Operators.vue'),
      meta: { title: 'Operators' },
    },
    {
      path: '/domains',
      name: 'domains',
      component: () => import('./pages/Domains.vue'),
      meta: { title: 'Login domains', place: 'cloud' },
    },
    {
      path: '/domains/:domain',
      name: 'domain',
      component: () => import('./pages/Domain.vue'),
      props: true,
      meta: { title: 'Login domain', place: 'cloud' },
    },
    {
      path: '/installation',
      name: 'installation',
      component: () => import('./pages/Installation.vue'),
      meta: { title: 'Installation', place: 'overview' },
    },
    {
      path: '/first-day',
      name: 'first-day',
      component: () => import('./pages/FirstDay.vue'),
      meta: { title: 'First day', place: 'overview' },
    },
    { path: '/audit', name: 'audit', component: () => import('./pages/Audit.vue'), meta: { title: 'Audit' } },
    {
      path: '/kept',
      name: 'kept',
      component: () => import('./pages/Kept.vue'),
      meta: { title: 'Kept', place: 'runs' },
    },
    {
      path: '/leavers',
      name: 'leavers',
      component: () => import('./pages/Leavers.vue'),
      meta: { title: 'Leavers', place: 'runs' },
    },
    { path: '/objects', name: 'objects', component: () => import('./pages/Objects.vue'), meta: { title: 'Objects' } },
    {
      path: '/objects/:id',
      name: 'object',
      component: () => import('./pages/Object.vue'),
      meta: { title: 'Object', place: 'objects' },
    },
    {
      path: '/directories',
      name: 'directories',
      component: () => import('./pages/Directories.vue'),
      meta: { title: 'Directories' },
    },
    {
      path: '/directories/:name',
      name: 'directory',
      component: () => import('./pages/Directory.vue'),
      meta: { title: 'Directory', place: 'directories' },
    },
    { path: '/scope', name: 'scope', component: () => import('./pages/Scope.vue'), meta: { title: 'Scope' } },
    { path: '/rules', name: 'rules', component: () => import('./pages/Rules.vue'), meta: { title: 'Rules' } },
    {
      path: '/forecast',
      name: 'forecast',
      component: () => import('./pages/Forecast.vue'),
      meta: { title: 'Forecast' },
    },
    { path: '/survey', name: 'survey', component: () => import('./pages/Survey.vue'), meta: { title: 'Survey' } },
    {
      path: '/settings',
      name: 'settings',
      component: () => import('./pages/Settings.vue'),
      meta: { title: 'Settings' },
    },
    {
      path: '/cloud-groups',
      name: 'cloud-groups',
      component: () => import('./pages/CloudGroups.vue'),
      meta: { title: 'Cloud groups' },
    },
    {
      path: '/cloud-groups/:directory/:group',
      name: 'cloud-group',
      component: () => import('./pages/CloudGroup.vue'),
      props: true,
      meta: { title: 'Cloud group' },
    },
    {
      path: '/passwords',
      name: 'passwords',
      component: () => import('./pages/Passwords.vue'),
      meta: { title: 'Passwords' },
    },
    { path: '/cloud', name: 'cloud', component: () => import('./pages/Cloud.vue'), meta: { title: 'Cloud' } },
    {
      path: '/:rest(.*)',
      name: 'nowhere',
      component: () => import('./pages/Nowhere.vue'),
      meta: { title: 'Not found' },
    },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  try {
    await session.restore()
  } catch {
    return true // the page tells that the service is away
  }
  if (!to.meta.open && !session.who) return { name: 'sign-in', query: { to: to.fullPath } }
  return true
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} · Kambrel`
})
