// The course of a number since the page was opened.

const most = 80 // points, one for each pixel

export class Course {
  points = []
  constructor(cell) { this.cell = cell }
  draw() {
    this.svg = document.createElementNS('http://www.w3.org/2000/svg', 'svg')
    this.path = document.createElementNS('http://www.w3.org/2000/svg', 'path')
    this.svg.append(this.path)
    this.svg.setAttribute('class', 'course')
    this.svg.setAttribute('viewBox', '0 0 80 20')
    this.svg.setAttribute('preserveAspectRatio', 'none')
    this.svg.setAttribute('role', 'img')
    this.cell.replaceChildren(this.svg)
  }
  add(value) {
    const x = Number(value)
    if (x === this.points.at(-1)) return
    this.points.push(x)
    if (this.points.length > most) this.points.shift()
    if (this.points.length < 2) return
    if (!this.svg) this.draw()
    const least = Math.min(...this.points), largest = Math.max(...this.points), step = 80 / (this.points.length - 1)
    this.path.setAttribute('d', this.points.map((p, i) => `${i ? 'L' : 'M'}${(i * step).toFixed(1)} ${(18 - 16 * (p - least) / (largest - least || 1)).toFixed(1)}`).join(''))
    const label = `least ${least}, most ${largest}, last ${value}`
    this.svg.setAttribute('aria-label', label)
    this.cell.title = label
  }
}
