// The service worker of the page. It serves the page's own files when the server can't be reached, and
// nothing else.

const store = 'small-pantry page', page = '/boards/page'
const files = [page, '/small-pantry.js', ...['page.js', 'chunk.js', 'chart.js', 'page.css'].map(f => `/small-pantry/${f}`)]

addEventListener('install', e => {
  skipWaiting()
  e.waitUntil(caches.open(store).then(c => c.addAll(files)))
})
addEventListener('activate', e => e.waitUntil(clients.claim()))

addEventListener('fetch', e => {
  const { pathname, origin } = new URL(e.request.url)
  if (e.request.method !== 'GET' || origin !== location.origin) return
  const opens = e.request.mode === 'navigate' && pathname.startsWith('/boards/'), key = opens ? page : pathname
  if (opens || files.includes(pathname)) e.respondWith(answer(e.request, key, opens))
})

async function answer(request, key, opens) {
  const cache = await caches.open(store)
  try {
    const got = await fetch(request, { signal: AbortSignal.timeout(4000) })
    // Another page than ours, as a network's sign-in page, is shown but not kept.
    if (got.ok && got.headers.get('Content-Security-Policy')?.includes('default-src \'none\'')) await cache.put(key, got.clone())
    else if (!opens && await cache.match(key)) return await cache.match(key)
    return got
  } catch (cause) {
    const kept = await cache.match(key)
    if (!kept) throw cause
    return kept
  }
}
