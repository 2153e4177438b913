// The chart of one number over the chosen time.

import { useEffect, useRef, useState } from 'preact/hooks'
import uPlot from 'uplot'
import { age, clock, grouped, marks, when } from './model.js'
import { useWidth } from './parts.jsx'

const colour = name => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

/** points are [[ms, value, change]…], oldest first. */
export function Chart({ points, from, to, range, name, end = 'now' }) {
  const box = useRef(), plot = useRef(), width = useWidth(box), [at, setAt] = useState()
  const data = [[...points.map(p => p[0] / 1000), to / 1000], [...points.map(p => p[1]), points.at(-1)?.[1]]]
  const shape = `${width} ${range} ${matchMedia('(prefers-color-scheme: dark)').matches} ${matchMedia('(forced-colors: active)').matches}`
  useEffect(() => {
    if (!width) return
    const soft = colour('--soft'), lineColour = colour('--line'), moss = colour('--moss'), font = '11px system-ui'
    const axis = { stroke: soft, font, grid: { stroke: lineColour, width: 1 }, ticks: { show: false } }
    plot.current = new uPlot({
      width, height: 160, legend: { show: false }, cursor: { y: false, points: { size: 8, fill: moss }, drag: { x: false, y: false } },
      scales: { x: { time: true, range: () => [box.current.from / 1000, box.current.to / 1000] }, y: { range: (_, least, most) => least === most ? [least - 1, most + 1] : [least - (most - least) * 0.08, most + (most - least) * 0.08] } },
      axes: [
        { ...axis, size: 24, grid: { show: false }, splits: () => { // without those whose labels touch the first or the last one
          const { from, to } = box.current
          return [from, ...marks(from, to, range).map(m => m[0]).filter(t => t > from + (to - from) / 4 && t < to - (to - from) / 8), to].map(t => t / 1000)
        },
          values: (_, all) => all.map((t, i) => i === all.length - 1 ? box.current.end : i ? (range === 'month' ? when(t * 1000).split(',')[0] : clock(t * 1000)) : (range === 'hour' ? clock(t * 1000) : age(t * 1000))) },
        { ...axis, size: (_, values) => 12 + 7 * Math.max(1, ...(values ?? []).map(v => v.length)), splits: (_, __, least, most) => niceSplits(least, most), values: (_, all) => all.map(v => grouped(Number(v.toPrecision(6)))) },
      ],
      series: [{}, { stroke: moss, width: 2, paths: uPlot.paths.stepped({ align: 1 }), points: { show: false } }],
      hooks: { setCursor: [u => setAt(u.cursor.idx ?? undefined)] },
    }, box.current.data, box.current)
    return () => plot.current.destroy()
  }, [shape])
  useEffect(() => { plot.current?.setData(box.current.data) })
  const values = data[1], least = Math.min(...values), most = Math.max(...values), now = values.at(-1)
  const shown = at !== undefined && points[Math.min(at, points.length - 1)]
  return <figure class="chart">
    <div ref={el => { box.current = el; if (el) Object.assign(el, { from, to, data, end }) }} role="img" aria-label={`${name}: least ${grouped(least)}, most ${grouped(most)}, now ${grouped(now)}`} />
    <figcaption>{shown ? <><b>{grouped(shown[1])}</b>{shown[2] ? `, ${shown[2].by ? `${shown[2].by}, ` : ''}${age(shown[2].at)}` : ''}</> : `least ${grouped(least)}, most ${grouped(most)}`}</figcaption>
  </figure>
}

/** A few round values of an axis. */
function niceSplits(least, most) {
  if (!(most > least)) return [least]
  const rough = (most - least) / 6, power = 10 ** Math.floor(Math.log10(rough)), step = [1, 2, 5, 10].map(n => n * power).find(s => s >= rough)
  const all = []
  for (let v = Math.ceil(least / step) * step; v <= most && all.length < 9; v += step) all.push(Number(v.toPrecision(12)))
  return all
}
