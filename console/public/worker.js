// Keeps the console's own files, so that it opens where there is no network, and nothing of what the service says: what is shown comes
// from the service or not at all.

/** Where it is served: a proxy may have put it below a path. */
const ROOT = new URL('./', self.location).pathname
const SHELL = 'cairnwind-shell'
const MOST = 120
const PATIENCE = 3000

self.addEventListener('install', () => self.skipWaiting())
self.addEventListener('activate', (event) => event.waitUntil(self.clients.claim()))

async function keep(request, answer) {
  if (!answer.ok) return
  const shell = await caches.open(SHELL)
  await shell.put(request, answer)
  const all = await shell.keys()
  for (const old of all.slice(0, Math.max(0, all.length - MOST))) await shell.delete(old)
}

async function file(request) {
  const kept = await caches.match(request)
  if (kept) return kept
  const answer = await fetch(request)
  await keep(request, answer.clone())
  return answer
}

async function page(request) {
  try {
    const answer = await fetch(request, { signal: AbortSignal.timeout(PATIENCE) })
    await keep(ROOT, answer.clone())
    return answer
  } catch (error) {
    const kept = await caches.match(ROOT)
    if (kept) return kept
    throw error
  }
}

self.addEventListener('fetch', (event) => {
  const at = new URL(event.request.url)
  if (event.request.method !== 'GET' || at.origin !== self.location.origin) return
  if (at.pathname.startsWith(`${ROOT}assets/`)) event.respondWith(file(event.request))
  else if (at.pathname === ROOT) event.respondWith(page(event.request))
})
