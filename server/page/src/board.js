// The board of the page's link.

import { join } from '/small-pantry.js'
import { link, token } from './link.js'
import { parse } from './model.js'

export const board = join(link, { name: token ? undefined : 'page', offline: true, parse, onProblem() {} }) // the head says what is wrong
