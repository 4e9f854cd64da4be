import { createApp } from 'vue';
import App from './App.vue';
import { createConsoleRouter } from './router';
import { suggestNames } from './shared/near-names';
import { takeSignInKey } from './sign-in/sign-in-link';
import { addNonceToStyles } from './style-nonce';
import './style.css';

addNonceToStyles();
suggestNames();
// Before the router reads the address.
takeSignInKey();
createApp(App).use(createConsoleRouter()).mount('#app');
