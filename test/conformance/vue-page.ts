// Shows a query with the Vue composables, for the conformance kit.
import { connect } from '@uproar/client';
import { useConnection, useWatch } from '@uproar/vue';
import { createApp, defineComponent, watchEffect } from 'vue';
import { given, show, wireQuery } from './page.js';

const store = connect(location.origin, { token: given.key });

const Documents = defineComponent({
  setup() {
    const view = useWatch(() => store.watch({ query: wireQuery() }));
    const connection = useConnection(store);
    watchEffect(() => view.value && show(view.value, connection.value));
    return () => null;
  },
});

createApp(Documents).mount('#board');
