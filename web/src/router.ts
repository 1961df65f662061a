import { createRouter, createWebHistory } from 'vue-router'

import { useSession } from './state/session'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', name: 'sign-in', component: () => import('./pages/SignIn.vue'), meta: { title: 'Sign in', open: true } },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue'), meta: { title: 'Overview' } },
    { path: '/runs', name: 'runs', component: () => import('./pages/Runs.vue'), meta: { title: 'Runs' } },
    { path: '/runs/:id(\\d+)', name: 'run', component: () => import('./pages/Run.vue'), meta: { title: 'Run' } },
    { path: '/objects', name: 'objects', component: () => import('./pages/Objects.vue'), meta: { title: 'Objects' } },
    { path: '/objects/:id', name: 'object', component: () => import('./pages/Object.vue'), meta: { title: 'Object' } },
    { path: '/:rest(.*)', name: 'nowhere', component: () => import('./pages/Nowhere.vue'), meta: { title: 'Not found' } },
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
