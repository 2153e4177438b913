import { join, int, oneOf, list, records } from '../small-pantry.js'

const board = join('http://127.0.0.1:8437/boards/rowan-street')
const tank = board.on(int('tank/litres', 0)), units = board.on(oneOf('units', 'metric', 'imperial')), hose = board.on(list<string>('hose/queue', []))
tank.set('many') // wrong
units.set('furlongs') // wrong
units.add(1) // wrong
hose.append(5) // wrong
board.on('tank/litres') // wrong
join(5) // wrong
int('n', 0, { least: 1 }) // wrong

list<Date>('days', []) // wrong
int('n', 0, { keep: 5 }) // wrong
records('plantings', { crop: '', sown: new Date() }) // wrong
board.on(records('plantings', { crop: '' })) // wrong
board.records(int('n', 0)) // wrong
board.records(records('plantings', { crop: '' })).put('1', { crop: 5 }) // wrong
