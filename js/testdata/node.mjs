// Runs a module that is meant for a page, of which / is the origin: node node.mjs ORIGIN MODULE EXPORT
import { register } from 'node:module'

const [,, origin, module, name] = process.argv
register(`data:text/javascript,${encodeURIComponent(`
  import { readFileSync } from 'node:fs'
  const origin = ${JSON.stringify(origin)}
  export const resolve = (s, c, next) => s.startsWith('/') && !s.startsWith('/work') ? { url: origin + s, shortCircuit: true } : next(s, c)
  export const load = async (url, c, next) => url.startsWith('http:') ? { format: 'module', source: await (await fetch(url)).text(), shortCircuit: true } : next(url, c)
`)}`)
const { [name]: f } = await import(`${origin}${module}`)
console.log(await f(origin))
process.exit(0)
