// Keeps the page itself, so that it opens without a connection. Data is the client's business.
const FILES = ['./', 'field.js', 'field.css', '/client/uproar.js', '/client/uproar-deferred.js'];

addEventListener('install', (event) => {
  event.waitUntil(caches.open('field').then((cache) => cache.addAll(FILES)));
});

addEventListener('fetch', (event) => {
  const { pathname } = new URL(event.request.url);
  if (event.request.method !== 'GET' || !FILES.some((file) => pathname === new URL(file, location.href).pathname))
    return;
  // The present one where it can be had, otherwise the one kept.
  event.respondWith(
    fetch(event.request)
      .then(async (response) => {
        if (response.ok) await (await caches.open('field')).put(event.request, response.clone());
        return response;
      })
      .catch(() => caches.match(event.request, { ignoreSearch: true })),
  );
});
