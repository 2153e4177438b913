// What the other modules share.

import { write } from '/small-pantry.js'

export const sleep = ms => new Promise(f => setTimeout(f, ms))
export const until = async (what, is) => {
  for (const end = Date.now() + 40_000; Date.now() < end; await sleep(5)) if (await is()) return
  throw new Error(typeof what === 'function' ? await what() : what)
}
export const check = (ok, what) => { if (!ok) throw new Error(what) }
export const same = (a, b, what) => check(write(a) === write(b), `${what}: ${write(a)} is not ${write(b)}`)
export const site = async origin => {
  const link = await (await fetch(`${origin}/control/new`, { method: 'POST' })).text(), board = link.split('/').pop()
  return { link, control: async (verb, body) => (await fetch(`${origin}/control/${verb}?board=${board}`, { method: 'POST', body })).text() }
}
export const quick = { fast: 20, slow: 100, patience: 40_000, onProblem() {} }
export const test = f => async (...args) => {
  try {
    await f(...args)
    return ''
  } catch (e) { return `${e.message}\n${e.stack}` }
}
