import { createRouter, createWebHistory } from 'vue-router';
import DataPage from './data/DataPage.vue';

/** Creates the router. Every address can be shared: it names the page, the collection and the open document. */
export const createConsoleRouter = () =>
  createRouter({
    history: createWebHistory('/console/'),
    routes: [
      { path: '/', redirect: '/data' },
      { path: '/data/:collection?/:id?', name: 'data', component: DataPage },
      { path: '/query', name: 'query', component: () => import('./query/QueryPage.vue') },
      { path: '/boards/:id?', name: 'boards', component: () => import('./boards/BoardsPage.vue') },
      { path: '/start', name: 'start', component: () => import('./first-steps/FirstStepsPage.vue') },
      { path: '/compare', name: 'compare', component: () => import('./compare/ComparePage.vue') },
      { path: '/shapes/:collection?', name: 'shapes', component: () => import('./shapes/ShapesPage.vue') },
      { path: '/journal', name: 'journal', component: () => import('./journal/JournalPage.vue') },
      { path: '/hooks', name: 'hooks', component: () => import('./hooks/HooksPage.vue') },
      { path: '/devices', name: 'devices', component: () => import('./devices/DevicesPage.vue') },
      { path: '/operations', name: 'operations', component: () => import('./operations/OperationsPage.vue') },
      { path: '/usage', name: 'usage', component: () => import('./usage/UsagePage.vue') },
      { path: '/api/:view?', name: 'api', component: () => import('./api/ApiPage.vue') },
      { path: '/access/:tab?', name: 'access', component: () => import('./access/AccessPage.vue') },
      { path: '/:anything(.*)*', redirect: '/data' },
    ],
  });
