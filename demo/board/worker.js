// Keeps the page itself, so that it opens without a connection. Data is the client's business.
const KEPT = 'board';

addEventListener('install', (event) => {
  event.waitUntil(caches.open(KEPT).then((cache) => cache.addAll(['./', 'board.css', 'board.js'])));
});

addEventListener('fetch', (event) => {
  const { pathname } = new URL(event.request.url);
  // Only the files of this page; what is asked of the store goes to the network.
  if (event.request.method !== 'GET' || !pathname.startsWith(new URL('./', location.href).pathname)) return;
  event.respondWith(
    fetch(event.request)
      .then(async (response) => {
        if (response.ok) await (await caches.open(KEPT)).put(event.request, response.clone());
        return response;
      })
      .catch(() => caches.match(event.request, { ignoreSearch: true })),
  );
});
