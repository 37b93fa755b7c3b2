import { createRouter, createWebHistory } from 'vue-router'

import EnterPlace from './places/EnterPlace.vue'
import JobsPlace from './places/JobsPlace.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/jobs' },
    { path: '/streams/:connection?', component: () => import('./places/StreamsPlace.vue'), props: true, meta: { title: 'Streams' } },
    { path: '/streams/:connection/:topic', component: () => import('./places/TopicPlace.vue'), props: true },
    { path: '/alarms', component: () => import('./places/AlarmsPlace.vue'), meta: { title: 'Alarms' } },
    { path: '/build', component: () => import('./places/BuildPlace.vue'), props: (to) => ({ job: to.query.job }), meta: { title: 'Build' } },
    { path: '/try', component: () => import('./places/TryPlace.vue'), props: (to) => ({ lesson: to.query.lesson, job: to.query.job }), meta: { title: 'Try' } },
    { path: '/people', component: () => import('./places/PeoplePlace.vue'), meta: { title: 'People' } },
    { path: '/nodes', component: () => import('./places/NodesPlace.vue'), meta: { title: 'Nodes' } },
    { path: '/enter', component: EnterPlace, meta: { title: 'Enter' } },
    { path: '/jobs', component: JobsPlace, meta: { title: 'Jobs' } },
    { path: '/jobs/:job', component: () => import('./places/JobPlace.vue'), props: true },
    { path: '/:rest(.*)*', component: () => import('./places/NowherePlace.vue'), meta: { title: 'Nothing here' } },
  ],
})

router.afterEach((to) => {
  const title = (to.meta.title as string | undefined) ?? String(to.params.job ?? to.params.topic ?? '')
  document.title = `${title} · Under Tide`
})

// A job is what most people open next: what its page needs is fetched while nothing else is to be done.
void router.isReady().then(() => requestIdleCallback(() => {
  void Promise.allSettled([import('./places/JobPlace.vue'), import('./parts/FiguresSection.vue'), import('./parts/ResultsChart.vue')])
}))
