// Topics: a component draws again when one of its topics changes.

import { useLayoutEffect, useReducer } from 'preact/hooks'

const listeners = new Map()

export function emit(...topics) {
  for (const topic of topics) for (const f of [...listeners.get(topic) ?? []]) f()
}

function on(topic, f) {
  if (!listeners.has(topic)) listeners.set(topic, new Set())
  listeners.get(topic).add(f)
  return () => {
    listeners.get(topic).delete(f)
    if (!listeners.get(topic).size) listeners.delete(topic)
  }
}

/** Draws a component again when one of the topics changes. */
export function useTopics(...topics) {
  const [, redraw] = useReducer(n => n + 1, 0)
  useLayoutEffect(() => {
    const off = topics.map(t => on(t, redraw))
    return () => off.forEach(f => f())
  }, topics)
}

