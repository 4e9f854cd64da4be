import { createApp } from 'vue';
import App from './App.vue';
import { router } from './router';
import { takeKeyFromAddress } from './session';
import './style.css';

takeKeyFromAddress();
createApp(App).use(router).mount('#app');
