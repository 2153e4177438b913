// Runs a function of a module that a site serves for pages: node node.mjs ORIGIN MODULE EXPORT SOAK
import { register } from 'node:module'

const [,, origin, module, name, soak] = process.argv
register(`data:text/javascript,${encodeURIComponent(`
  export const resolve = (s, c, next) => c.parentURL?.startsWith('http:') && s.startsWith('/') ? { url: new URL(s, c.parentURL).href, shortCircuit: true } : next(s, c)
  export const load = async (url, c, next) => url.startsWith('http:') ? { format: 'module', source: await (await fetch(url)).text(), shortCircuit: true } : next(url, c)
`)}`)
const { [name]: f } = await import(`${origin}${module}`)
console.log(await f(origin, soak === 'true'))
process.exit(0)
