import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    {
      path: '/sign-in',
      component: () => import('./pages/SignIn.vue'),
      meta: { bare: true, title: 'Sign in' },
    },
    { path: '/', component: () => import('./pages/Morning.vue'), meta: { title: 'Morning' } },
    { path: '/hosts', component: () => import('./pages/Hosts.vue'), meta: { title: 'Hosts' } },
    {
      path: '/hosts/:host/:tab(sources|numbers|uncollected|config|history|facts)?',
      component: () => import('./pages/Host.vue'),
      props: true,
      meta: { title: 'Host' },
    },
    {
      path: '/catalogue',
      component: () => import('./pages/Catalogue.vue'),
      meta: { title: 'Catalogue' },
    },
    {
      path: '/catalogue/:kind/:name/:tab(hosts|rejects|numbers|books|definition)?',
      component: () => import('./pages/Definition.vue'),
      props: true,
      meta: { title: 'Definition' },
    },
    {
      path: '/coverage',
      component: () => import('./pages/Coverage.vue'),
      meta: { title: 'What is masked' },
    },
    {
      path: '/workbench',
      component: () => import('./pages/Workbench.vue'),
      meta: { title: 'Workbench' },
    },
    {
      path: '/flow',
      component: () => import('./pages/Flow.vue'),
      meta: { title: 'Flow' },
    },
    {
      path: '/cost',
      component: () => import('./pages/Cost.vue'),
      meta: { title: 'Cost' },
    },
    {
      path: '/senders',
      component: () => import('./pages/Senders.vue'),
      meta: { title: 'Senders' },
    },
    {
      path: '/unclaimed',
      component: () => import('./pages/Unclaimed.vue'),
      meta: { title: 'Unclaimed' },
    },
    {
      path: '/peek',
      component: () => import('./pages/Peek.vue'),
      meta: { title: 'Live look' },
    },
    {
      path: '/changes',
      component: () => import('./pages/Changes.vue'),
      meta: { title: 'Changes' },
    },
    {
      path: '/changes/:draft(\\d+)/:tab(findings|definitions|hosts|preflight|trial|masks|conflicts)?',
      component: () => import('./pages/Draft.vue'),
      props: true,
      meta: { title: 'Draft' },
    },
    {
      path: '/changes/:draft(\\d+)/edit/:kind/:name',
      component: () => import('./pages/Editor.vue'),
      props: true,
      meta: { title: 'Edit' },
    },
    {
      path: '/rollouts',
      component: () => import('./pages/Rollouts.vue'),
      meta: { title: 'Rollouts' },
    },
    {
      path: '/rollouts/new',
      component: () => import('./pages/StartRollout.vue'),
      meta: { title: 'Roll out' },
    },
    {
      path: '/rollouts/:rollout(\\d+)',
      component: () => import('./pages/Rollout.vue'),
      props: true,
      meta: { title: 'Rollout' },
    },
    {
      path: '/notices',
      component: () => import('./pages/Notices.vue'),
      meta: { title: 'Notices' },
    },
    {
      path: '/secrets',
      component: () => import('./pages/Secrets.vue'),
      meta: { title: 'Secrets' },
    },
    {
      path: '/tokens',
      component: () => import('./pages/Tokens.vue'),
      meta: { title: 'Join tokens' },
    },
    { path: '/audit', component: () => import('./pages/Audit.vue'), meta: { title: 'Audit' } },
    {
      path: '/give/:secret',
      component: () => import('./pages/Give.vue'),
      props: true,
      meta: { bare: true, title: 'Set a secret' },
    },
    {
      path: '/:rest(.*)*',
      component: () => import('./pages/Nowhere.vue'),
      meta: { title: 'Nothing here' },
    },
  ],
})

router.afterEach((to) => {
  const what = to.params.host ?? to.params.name ?? to.params.draft ?? to.params.rollout
  document.title = `${[to.meta.title, what].filter(Boolean).join(' ')} · Synaxis`
})
