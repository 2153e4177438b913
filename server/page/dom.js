// Small help with the document. Text is only ever set as text.

export const $ = id => document.getElementById(id)

/** Makes an element: make('button', {class: 'main', onclick: f}, 'Add'). */
export function make(tag, attributes = {}, ...children) {
  const el = document.createElement(tag)
  for (const [name, x] of Object.entries(attributes)) {
    if (typeof x === 'function') el.addEventListener(name.slice(2), x)
    else if (x === true) el.setAttribute(name, '')
    else if (x !== false && x != null) el.setAttribute(name, x)
  }
  el.append(...children.filter(c => c != null))
  return el
}

export function setText(el, text) {
  if (el.textContent !== text) el.textContent = text
}
