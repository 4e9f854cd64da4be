import { createRouter, createWebHistory } from 'vue-router';
import DataPage from './pages/DataPage.vue';

/** Every address of the console can be shared: it names the page, the collection, and the document that is open. */
export const router = createRouter({
  history: createWebHistory('/console/'),
  routes: [
    { path: '/', redirect: '/data' },
    { path: '/data/:collection?/:id?', name: 'data', component: DataPage },
    { path: '/query', name: 'query', component: () => import('./pages/QueryPage.vue') },
    { path: '/shapes/:collection?', name: 'shapes', component: () => import('./pages/ShapesPage.vue') },
    { path: '/journal', name: 'journal', component: () => import('./pages/JournalPage.vue') },
    { path: '/devices', name: 'devices', component: () => import('./pages/DevicesPage.vue') },
    { path: '/operations', name: 'operations', component: () => import('./pages/OperationsPage.vue') },
    { path: '/api/:view?', name: 'api', component: () => import('./pages/ApiPage.vue') },
    { path: '/access/:tab?', name: 'access', component: () => import('./pages/AccessPage.vue') },
    { path: '/:anything(.*)*', redirect: '/data' },
  ],
});
