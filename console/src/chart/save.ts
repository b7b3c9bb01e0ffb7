import type uPlot from 'uplot'
import type { Drawn } from './curves'
import { css, drawable, type Line } from './lines'
import { bestPlace, inside, labels, unreal, type Best, type Flag } from './marks'

/** Hands a file to the person. */
export function download(name: string, content: Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(content)
  link.download = name
  link.click()
  setTimeout(() => {
    URL.revokeObjectURL(link.href)
  }, 10_000)
}

const cell = (v: number | undefined) => (v === undefined ? '' : Number.isNaN(v) ? 'NaN' : String(v))

/** What is seen, as CSV: a row per pixel and curve, within the window. */
export function toCSV(curves: Drawn[], low: number, high: number): string {
  const out = ['curve,step,epoch,time,value,count,nan,infinite,min,max,mean,smooth']
  for (const c of curves) {
    c.x.forEach((x, i) => {
      if (x < low || x > high) return
      const rest = [
        c.count?.[i] ?? 1,
        c.nan?.[i] ?? 0,
        c.infinite?.[i] ?? 0,
        c.min?.[i],
        c.max?.[i],
        c.mean?.[i],
        c.smooth?.[i],
      ]
      const name = /[",\n]/.test(c.name) ? `"${c.name.replaceAll('"', '""')}"` : c.name
      out.push(
        [
          name,
          c.step[i],
          Number.isNaN(c.epoch[i]) ? '' : c.epoch[i],
          c.time[i],
          cell(c.value[i]),
          ...rest.map(cell),
        ].join(','),
      )
    })
  }
  return out.join('\n') + '\n'
}

/** The chart's canvas on paper, under its title. */
export function toPNG(u: uPlot, title: string): Promise<Blob> {
  const ratio = devicePixelRatio
  const from = u.ctx.canvas
  const canvas = document.createElement('canvas')
  canvas.width = from.width
  canvas.height = from.height + 26 * ratio
  const ctx = canvas.getContext('2d')
  if (!ctx) return Promise.reject(new Error('the browser draws no pictures'))
  ctx.fillStyle = css('--paper')
  ctx.fillRect(0, 0, canvas.width, canvas.height)
  ctx.fillStyle = css('--ink')
  ctx.font = `600 ${13 * ratio}px ${css('--sans')}`
  ctx.fillText(title, 8 * ratio, 17 * ratio)
  ctx.drawImage(from, 0, 26 * ratio)
  return new Promise((resolve, reject) => {
    canvas.toBlob((b) => {
      if (b) resolve(b)
      else reject(new Error('the browser made no picture'))
    }, 'image/png')
  })
}

const escape = (s: string) =>
  // XML has no place for control characters, not even escaped.
  s
    .replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f-\u009f\ufffe\uffff]/g, '\ufffd')
    .replace(/[&<>"]/g, (c) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' })[c] ?? c)

/** The same as SVG: the lines in their window, axes, labels and marks. */
export function toSVG(
  u: uPlot,
  title: string,
  lines: Line[],
  starts: number[],
  o: { focus: string; hide: number; best?: Best; flags: Flag[]; x: [number, string][]; y: [number, string][] },
): string {
  const ratio = devicePixelRatio
  const head = 26
  const [left, top, wide, high] = [u.bbox.left, u.bbox.top, u.bbox.width, u.bbox.height].map((v) => v / ratio)
  const px = (v: number) => u.valToPos(v, 'x', true) / ratio
  const py = (v: number) => u.valToPos(v, 'y', true) / ratio + head
  const round = (v: number) => Number(v.toFixed(2))
  const out: string[] = []
  const text = (x: number, y: number, s: string, more: string) =>
    out.push(`<text x="${round(x)}" y="${round(y)}" ${more}>${escape(s)}</text>`)
  const small = `font-family="monospace" font-size="11" fill="${css('--ink2')}"`
  text(8, 17, title, `font-family="sans-serif" font-weight="600" font-size="13" fill="${css('--ink')}"`)
  for (const [v, s] of o.y) {
    out.push(
      `<line x1="${left}" x2="${left + wide}" y1="${round(py(v))}" y2="${round(py(v))}" stroke="${css('--rule')}"/>`,
    )
    text(left - 6, py(v) + 4, s, `${small} text-anchor="end"`)
  }
  for (const [v, s] of o.x) text(px(v), top + high + head + 16, s, `${small} text-anchor="middle"`)
  out.push(`<g clip-path="url(#window)" fill="none">`)
  const runs = (column: (number | null | undefined)[]) => {
    const parts: string[] = []
    let pen = 'M'
    column.forEach((v, i) => {
      if (v === null) pen = 'M'
      if (v == null) return
      parts.push(`${pen}${round(px(u.data[0][i]))} ${round(py(v))}`)
      pen = 'L'
    })
    return parts.join('')
  }
  lines.forEach((l, i) => {
    const grey = o.focus !== '' && o.focus !== l.curve.name
    const colour = grey ? css('--ink3') : l.colour
    let at = starts[i]
    const main = u.data[at++] as (number | null | undefined)[]
    if (l.raw)
      out.push(`<path d="${runs(u.data[at++] as (number | null)[])}" stroke="${colour}" stroke-opacity="0.27"/>`)
    if (l.high && l.low) {
      const upper = u.data[at++] as (number | null | undefined)[]
      const lower = u.data[at] as (number | null | undefined)[]
      const there = upper
        .map((_, k) => k)
        .filter((k) => drawable(upper[k] ?? undefined) && drawable(lower[k] ?? undefined))
      const edge = [...there.map((k) => [k, Number(upper[k])]), ...there.reverse().map((k) => [k, Number(lower[k])])]
      out.push(
        `<path d="M${edge.map(([k, v]) => `${round(px(u.data[0][k]))} ${round(py(v))}`).join('L')}Z" fill="${colour}" fill-opacity="0.14"/>`,
      )
    }
    const dash = l.dash ? ` stroke-dasharray="${l.dash.join(' ')}"` : ''
    out.push(`<path d="${runs(main)}" stroke="${colour}" stroke-width="${l.curve.parent ? 0.9 : 1.7}"${dash}/>`)
  })
  for (const v of new Set(unreal(lines, o.hide).map((v) => round(px(v))))) {
    out.push(`<path d="M${v - 3} ${top + high + head - 9}l6 6m0 -6l-6 6" stroke="${css('--bad')}" stroke-width="1.5"/>`)
  }
  for (const f of o.flags) {
    if (!inside(u, u.valToPos(f.x, 'x', true))) continue
    const x = round(px(f.x))
    out.push(`<path d="M${x} ${top + head}v${high}" stroke="${css('--warn')}" stroke-dasharray="2 3"/>`)
    text(x + 4, top + head + 12, f.text, `font-family="sans-serif" font-size="11" fill="${css('--warn')}"`)
  }
  out.push('</g>')
  for (const l of labels(u, lines, starts, o.focus, ratio)) {
    text(l.x / ratio + 6, l.y / ratio + head + 4, l.text, `font-family="sans-serif" font-size="11" fill="${l.colour}"`)
  }
  const best = bestPlace(u, lines, o.hide, o.best)
  if (best) {
    const [x, y] = [best.x / ratio, best.y / ratio + head]
    out.push(
      `<circle cx="${round(x)}" cy="${round(y)}" r="4" fill="${css('--paper')}" stroke="${css('--c1')}" stroke-width="2"/>`,
    )
    text(x, y - 9, best.text, `font-family="sans-serif" font-size="11" text-anchor="middle" fill="${css('--ink')}"`)
  }
  const size = [u.ctx.canvas.width / ratio, u.ctx.canvas.height / ratio + head].map(round)
  return (
    `<svg xmlns="http://www.w3.org/2000/svg" width="${size[0]}" height="${size[1]}" viewBox="0 0 ${size[0]} ${size[1]}">` +
    `<clipPath id="window"><rect x="${left}" y="${top + head}" width="${wide}" height="${high}"/></clipPath>` +
    `<rect width="100%" height="100%" fill="${css('--paper')}"/>${out.join('\n')}</svg>\n`
  )
}
