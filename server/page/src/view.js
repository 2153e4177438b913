// What is typed, selected and chosen on this page.

import { device, session, slot } from './link.js'
import { emit } from './topics.js'

// ---- Typed text, which stays until it is stored or given up ----

const draftSlot = `${slot} typed`
let drafts = {}
try { drafts = JSON.parse(session(draftSlot) || '{}') } catch { /* another version of this page wrote it */ }

export const draftOf = name => Object.hasOwn(drafts, name) ? drafts[name] : undefined
export function setDraft(name, draft) {
  draft === undefined ? delete drafts[name] : drafts[name] = draft
  const text = JSON.stringify(drafts)
  session(draftSlot, text === '{}' ? '' : text)
  emit(`d ${name}`)
}

// ---- What is selected, and how it is shown ----

export const view = { selected: undefined, tab: 'happened', mode: device(`${slot} mode`), search: '', wall: false, focus: true }
export function setView(change) {
  Object.assign(view, { focus: true }, change)
  if ('mode' in change) device(`${slot} mode`, change.mode)
  emit('view')
}
let pinned = new Set(device(`${slot} wall`).split('\n').filter(Boolean))
export const isPinned = name => pinned.has(name)
export const anyPinned = () => pinned.size > 0
export function pin(name, on) {
  on ? pinned.add(name) : pinned.delete(name)
  device(`${slot} wall`, [...pinned].join('\n'))
  emit('view', `e ${name}`)
}
