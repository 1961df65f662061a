import { createRouter, createWebHistory } from 'vue-router'

import { t } from './state/language'
import { useSession } from './state/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./pages/SignIn.vue'),
      meta: { title: t('Sign in'), open: true },
    },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue'), meta: { title: t('Overview') } },
    { path: '/runs', name: 'runs', component: () => import('./pages/Runs.vue'), meta: { title: t('Runs') } },
    {
      path: '/runs/:id(\\d+)',
      name: 'run',
      component: () => import('./pages/Run.vue'),
      meta: { title: t('Run'), place: 'runs' },
    },
    {
      path: '/problems',
      name: 'problems',
      component: () => import('./pages/Problems.vue'),
      meta: { title: t('Problems') },
    },
    {
      path: '/problems/:id(\\d+)',
      name: 'problem',
      component: () => import('./pages/Problem.vue'),
      meta: { title: t('Problem'), place: 'problems' },
    },
    {
      path: '/notices',
      name: 'notices',
      component: () => import('./pages/Notices.vue'),
      meta: { title: t('Notices'), place: 'audit' },
    },
    {
      path: '/report',
      name: 'report',
      component: () => import('./pages/Report.vue'),
      meta: { title: t('Report'), place: 'audit' },
    },
    {
      path: '/operators',
      name: 'operators',
      component: () => import('./pages/Operators.vue'),
      meta: { title: t('Operators') },
    },
    {
      path: '/domains',
      name: 'domains',
      component: () => import('./pages/Domains.vue'),
      meta: { title: t('Login domains'), place: 'cloud' },
    },
    {
      path: '/domains/:domain',
      name: 'domain',
      component: () => import('./pages/Domain.vue'),
      props: true,
      meta: { title: t('Login domain'), place: 'cloud' },
    },
    {
      path: '/installation',
      name: 'installation',
      component: () => import('./pages/Installation.vue'),
      meta: { title: t('Installation'), place: 'overview' },
    },
    {
      path: '/first-day',
      name: 'first-day',
      component: () => import('./pages/FirstDay.vue'),
      meta: { title: t('First day'), place: 'overview' },
    },
    { path: '/audit', name: 'audit', component: () => import('./pages/Audit.vue'), meta: { title: t('Audit') } },
    {
      path: '/kept',
      name: 'kept',
      component: () => import('./pages/Kept.vue'),
      meta: { title: t('Kept'), place: 'runs' },
    },
    {
      path: '/leavers',
      name: 'leavers',
      component: () => import('./pages/Leavers.vue'),
      meta: { title: t('Leavers'), place: 'runs' },
    },
    {
      path: '/objects',
      name: 'objects',
      component: () => import('./pages/Objects.vue'),
      meta: { title: t('Objects') },
    },
    {
      path: '/objects/:id',
      name: 'object',
      component: () => import('./pages/Object.vue'),
      meta: { title: t('Object'), place: 'objects' },
    },
    {
      path: '/directories',
      name: 'directories',
      component: () => import('./pages/Directories.vue'),
      meta: { title: t('Directories') },
    },
    {
      path: '/directories/:name',
      name: 'directory',
      component: () => import('./pages/Directory.vue'),
      meta: { title: t('Directory'), place: 'directories' },
    },
    { path: '/scope', name: 'scope', component: () => import('./pages/Scope.vue'), meta: { title: t('Scope') } },
    { path: '/rules', name: 'rules', component: () => import('./pages/Rules.vue'), meta: { title: t('Rules') } },
    {
      path: '/forecast',
      name: 'forecast',
      component: () => import('./pages/Forecast.vue'),
      meta: { title: t('Forecast') },
    },
    { path: '/survey', name: 'survey', component: () => import('./pages/Survey.vue'), meta: { title: t('Survey') } },
    {
      path: '/settings',
      name: 'settings',
      component: () => import('./pages/Settings.vue'),
      meta: { title: t('Settings') },
    },
    {
      path: '/cloud-groups',
      name: 'cloud-groups',
      component: () => import('./pages/CloudGroups.vue'),
      meta: { title: t('Cloud groups') },
    },
    {
      path: '/cloud-groups/:directory/:group',
      name: 'cloud-group',
      component: () => import('./pages/CloudGroup.vue'),
      props: true,
      meta: { title: t('Cloud group') },
    },
    {
      path: '/passwords',
      name: 'passwords',
      component: () => import('./pages/Passwords.vue'),
      meta: { title: t('Passwords') },
    },
    { path: '/cloud', name: 'cloud', component: () => import('./pages/Cloud.vue'), meta: { title: t('Cloud') } },
    {
      path: '/:rest(.*)',
      name: 'nowhere',
      component: () => import('./pages/Nowhere.vue'),
      meta: { title: t('Not found') },
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
  document.title = t('{0} · Kambrel', String(to.meta.title))
})
