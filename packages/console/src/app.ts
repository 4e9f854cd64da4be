import { createApp } from 'vue';
import App from './App.vue';
import { createConsoleRouter } from './router';
import { suggestNames } from './shared/near-names';
import { addNonceToStyles } from './style-nonce';
import './style.css';

addNonceToStyles();
suggestNames();
createApp(App).use(createConsoleRouter()).mount('#app');
