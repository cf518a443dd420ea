// Shows what the service pushes to a member (Push API), and opens its page.
self.addEventListener('push', (event) => {
  const { title = 'Vivid Orchard', body, link } = event.data?.json() ?? {};
  event.waitUntil(self.registration.showNotification(title, { body, icon: '/leaf.svg', data: { link: link ?? '/' } }));
});

self.addEventListener('notificationclick', (event) => {
  event.notification.close();
  const address = new URL(event.notification.data?.link ?? '/', self.location.origin);
  // A link leads to a page of this console and nowhere else.
  if (address.origin === self.location.origin) event.waitUntil(self.clients.openWindow(address.href));
});
