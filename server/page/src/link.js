// The link of the board. Its token stays in this tab, or on this device.

export const path = location.pathname
export const boardName = decodeURIComponent(path.split('/')[2])
export const slot = `small-pantry ${path}`

function kept(storage, key, value) {
  try {
    if (value === undefined) return storage()[key] ?? ''
    if (value === '') delete storage()[key]
    else storage()[key] = value
  } catch { /* storage is full, or the browser has none */ }
  return value ?? ''
}
export const session = (key, value) => kept(() => sessionStorage, key, value)
export const device = (key, value) => kept(() => localStorage, key, value)

const fragment = location.hash.slice(1)
if (fragment) {
  session(slot, fragment)
  history.replaceState(null, '', path)
}
addEventListener('hashchange', () => location.reload())

export const token = fragment || session(slot) || device(slot)
export const tokenID = token.split('.')[0]
export const link = `${location.origin}${path}${token && `#${token}`}`
/** Opens another link of this server, as from the field for one. */
export function openLink(url) {
  if (url.pathname === path) session(slot, url.hash.slice(1))
  location.href = url.href
  if (url.pathname === path) location.reload()
}
