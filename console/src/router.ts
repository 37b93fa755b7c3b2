import { createRouter, createWebHistory } from 'vue-router'

import JobsPlace from './places/JobsPlace.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/jobs' },
    { path: '/jobs', component: JobsPlace, meta: { title: 'Jobs' } },
    { path: '/jobs/:job', component: () => import('./places/JobPlace.vue'), props: true },
    { path: '/:rest(.*)*', component: () => import('./places/NowherePlace.vue'), meta: { title: 'Nothing here' } },
  ],
})

router.afterEach((to) => {
  const title = (to.meta.title as string | undefined) ?? String(to.params.job ?? '')
  document.title = `${title} · Under Tide`
})
