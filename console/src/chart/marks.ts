import type uPlot from 'uplot'
import { number } from '../shared/format'
import { css, drawable, type Line } from './lines'

export interface Best {
  curve: string
  step: number
  value: number
}

/** A place on the axis that is marked with a line and words, such as where a rule would have stopped. */
export interface Flag {
  x: number
  text: string
}

export interface Label {
  x: number
  y: number
  text: string
  colour: string
}

/** Direct labels at the ends of the lines, kept apart; where there is no room for all, the focused and the uppermost stay. */
export function labels(u: uPlot, lines: Line[], starts: number[], focus: string, ratio: number): Label[] {
  const space = 12 * ratio
  const out: (Label & { name: string })[] = []
  lines.forEach((l, i) => {
    if (!l.label) return
    const ys = u.data[starts[i]] as (number | null | undefined)[]
    let last = ys.length - 1
    while (last >= 0 && (ys[last] == null || u.data[0][last] > (u.scales.x.max ?? Infinity))) last--
    const y = ys[last]
    if (y == null) return
    const grey = focus !== '' && focus !== l.curve.name
    out.push({
      name: l.curve.name,
      x: u.valToPos(u.data[0][last], 'x', true),
      y: u.valToPos(y, 'y', true),
      text: l.label,
      colour: grey ? css('--ink3') : l.colour,
    })
  })
  const room = Math.max(1, Math.floor(u.bbox.height / space) + 1)
  const kept =
    out.length <= room
      ? out
      : focus
        ? out.filter((l) => l.name === focus)
        : out.sort((a, b) => a.y - b.y).slice(0, room)
  kept.sort((a, b) => a.y - b.y)
  kept.forEach((l, i) => {
    if (i > 0) l.y = Math.max(l.y, kept[i - 1].y + space)
  })
  const over = kept.length ? kept[kept.length - 1].y - (u.bbox.top + u.bbox.height) : 0
  if (over > 0) {
    for (let i = kept.length - 1; i >= 0; i--) {
      const limit = i === kept.length - 1 ? u.bbox.top + u.bbox.height : kept[i + 1].y - space
      kept[i].y = Math.min(kept[i].y, limit)
    }
  }
  return kept
}

/** Where readings are NaN or infinite. */
export function unreal(lines: Line[], hide: number): number[] {
  return lines.flatMap(({ curve }) =>
    curve.x.filter(
      (_, i) =>
        (!Number.isFinite(curve.value[i]) || (curve.nan?.[i] ?? 0) + (curve.infinite?.[i] ?? 0) > 0) &&
        !(curve.epoch[i] <= hide),
    ),
  )
}

/** Whether a place on the canvas is within the chart, a pixel aside. */
export const inside = (u: uPlot, x: number) => x >= u.bbox.left - 1 && x <= u.bbox.left + u.bbox.width + 1

/** Draws labels, crosses where a reading is not a number, flags, and the best point. */
export function drawMarks(
  u: uPlot,
  lines: Line[],
  starts: number[],
  o: { focus: string; hide: number; best?: Best; flags: Flag[] },
) {
  const ctx = u.ctx
  const ratio = devicePixelRatio
  ctx.save()
  ctx.font = `500 ${11 * ratio}px ${css('--sans')}`
  ctx.textBaseline = 'middle'
  ctx.textAlign = 'left'
  for (const l of labels(u, lines, starts, o.focus, ratio)) {
    ctx.fillStyle = l.colour
    ctx.fillText(l.text, l.x + 6 * ratio, l.y)
  }
  ctx.strokeStyle = css('--bad')
  ctx.lineWidth = 1.5 * ratio
  const foot = u.bbox.top + u.bbox.height - 6 * ratio
  for (const at of new Set(unreal(lines, o.hide).map((v) => Math.round(u.valToPos(v, 'x', true))))) {
    if (!inside(u, at)) continue
    const r = 3 * ratio
    ctx.beginPath()
    ctx.moveTo(at - r, foot - r)
    ctx.lineTo(at + r, foot + r)
    ctx.moveTo(at + r, foot - r)
    ctx.lineTo(at - r, foot + r)
    ctx.stroke()
  }
  for (const f of o.flags) {
    const x = u.valToPos(f.x, 'x', true)
    if (!inside(u, x)) continue
    ctx.strokeStyle = css('--warn')
    ctx.setLineDash([2 * ratio, 3 * ratio])
    ctx.beginPath()
    ctx.moveTo(x, u.bbox.top)
    ctx.lineTo(x, u.bbox.top + u.bbox.height)
    ctx.stroke()
    ctx.setLineDash([])
    ctx.fillStyle = css('--warn')
    ctx.textAlign = x > u.bbox.left + u.bbox.width - 120 * ratio ? 'right' : 'left'
    ctx.fillText(f.text, x + (ctx.textAlign === 'right' ? -4 : 4) * ratio, u.bbox.top + 8 * ratio)
  }
  drawBest(u, bestPlace(u, lines, o.hide, o.best))
  ctx.restore()
}

/** Where the best reading is drawn, in the canvas's pixels: at the first pixel that ends at its step or after. */
export function bestPlace(
  u: uPlot,
  lines: Line[],
  hide: number,
  best: Best | undefined,
): { x: number; y: number; text: string } | null {
  const on = best && lines.find((l) => l.curve.name === best.curve)?.curve
  if (!best || !on || !drawable(best.value)) return null
  const i = on.step.findIndex((s) => s >= best.step)
  if (i < 0 || on.epoch[i] <= hide) return null
  const x = u.valToPos(on.x[i], 'x', true)
  const y = u.valToPos(best.value, 'y', true)
  return inside(u, x) && Number.isFinite(y) ? { x, y, text: `best ${number(best.value)}` } : null
}

function drawBest(u: uPlot, place: ReturnType<typeof bestPlace>) {
  if (!place) return
  const { x, y, text } = place
  const ctx = u.ctx
  const ratio = devicePixelRatio
  ctx.beginPath()
  ctx.arc(x, y, 4 * ratio, 0, 2 * Math.PI)
  ctx.fillStyle = css('--paper')
  ctx.fill()
  ctx.strokeStyle = css('--c1')
  ctx.lineWidth = 2 * ratio
  ctx.stroke()
  ctx.fillStyle = css('--ink')
  ctx.textAlign = 'center'
  const half = ctx.measureText(text).width / 2
  const middle = Math.min(Math.max(x, u.bbox.left + half), u.bbox.left + u.bbox.width - half)
  ctx.fillText(text, middle, y - u.bbox.top > 24 * ratio ? y - 13 * ratio : y + 14 * ratio)
}
