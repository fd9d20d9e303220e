import { createRouter, createWebHistory } from 'vue-router'
import { onSignedOut } from './api/client'
import { useSession } from './stores/session'
import { useTrouble } from './stores/trouble'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('./pages/SignIn.vue'),
      meta: { open: true },
    },
    { path: '/', name: 'overview', component: () => import('./pages/Overview.vue') },
    { path: '/systems', name: 'systems', component: () => import('./pages/Systems.vue') },
    { path: '/systems/new', name: 'connect', component: () => import('./pages/Connect.vue') },
    {
      path: '/systems/:name/scope',
      name: 'scope',
      component: () => import('./pages/Scope.vue'),
      props: true,
    },
    {
      path: '/systems/:name/matches',
      name: 'matches',
      component: () => import('./pages/Matches.vue'),
      props: true,
    },
    { path: '/systems/:name', name: 'system', component: () => import('./pages/System.vue'), props: true },
    { path: '/identities', name: 'identities', component: () => import('./pages/Identities.vue') },
    { path: '/identities/roles', name: 'roles', component: () => import('./pages/Roles.vue') },
    { path: '/identities/licenses', name: 'licenses', component: () => import('./pages/Licenses.vue') },
    {
      path: '/identities/notifications',
      name: 'notifications',
      component: () => import('./pages/Notifications.vue'),
    },
    { path: '/identities/leavers', name: 'leavers', component: () => import('./pages/Leavers.vue') },
    {
      path: '/identities/:id',
      name: 'identity',
      component: () => import('./pages/Identity.vue'),
      props: true,
    },
    { path: '/changes', name: 'changes', component: () => import('./pages/Changes.vue') },
    {
      path: '/changes/:id',
      name: 'change-set',
      component: () => import('./pages/ChangeSet.vue'),
      props: true,
    },
    { path: '/on-hold', name: 'on-hold', component: () => import('./pages/OnHold.vue') },
    { path: '/decisions', name: 'decisions', component: () => import('./pages/Decisions.vue') },
    {
      path: '/rules/drafts/:id',
      name: 'draft',
      component: () => import('./pages/Draft.vue'),
      props: true,
    },
    { path: '/rules/history', name: 'history', component: () => import('./pages/RuleHistory.vue') },
    { path: '/rules', name: 'rules', component: () => import('./pages/Rules.vue') },
    { path: '/settings', name: 'settings', component: () => import('./pages/Settings.vue') },
    { path: '/:rest(.*)', name: 'not-found', component: () => import('./pages/NotFound.vue') },
  ],
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (to.meta.open) return true
  try {
    if (await session.resume()) return true
  } catch {
    useTrouble().text = 'The service does not answer. Check that it is running, then try again.'
    return false
  }
  return { name: 'sign-in', query: { to: to.fullPath }, hash: to.hash }
})

// Each page is a separate file. It fails to load if the service is down or was upgraded.
router.onError(() => {
  useTrouble().text = 'This page could not be loaded: the service does not answer, or was updated. Try again.'
})

onSignedOut(() => {
  const session = useSession()
  if (!session.name) return
  session.forget()
  void router.push({ name: 'sign-in', query: { to: router.currentRoute.value.fullPath } })
})
