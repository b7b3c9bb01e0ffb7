import type { EChartsCoreOption } from 'echarts/core'
import type { Mattered, TradeOff } from '../api/client'
import { css } from '../chart/lines'
import { hyper, number } from '../shared/format'

type Point = NonNullable<Mattered['points']>[number]

/** The look that all drawings have in common. */
function base(): EChartsCoreOption {
  return {
    animation: false,
    textStyle: { fontFamily: css('--sans'), fontSize: 11, color: css('--ink2') },
    tooltip: {
      renderMode: 'richText',
      backgroundColor: css('--sheet'),
      borderColor: css('--rule2'),
      textStyle: { color: css('--ink'), fontSize: 12 },
    },
  }
}
/** Ranges over more than this factor are drawn on a logarithmic scale. */
const wideRange = 30
const wide = (values: number[]) => {
  const low = Math.min(...values)
  return low > 0 && Math.max(...values) / low > wideRange
}
/** Words in their order: numbers by size, then the rest. */
const inOrder = (values: (number | string)[]) =>
  [...new Set(values.map(String))].sort((a, b) => {
    const [x, y] = [Number(a), Number(b)]
    if (Number.isNaN(x) !== Number.isNaN(y)) return Number.isNaN(x) ? 1 : -1
    return Number.isNaN(x) ? a.localeCompare(b) : x - y
  })
function axis(name: string, values: (number | string)[]) {
  const look = {
    name,
    nameLocation: 'middle',
    nameGap: 28,
    nameTextStyle: { color: css('--ink2') },
    axisLine: { lineStyle: { color: css('--rule2') } },
    axisTick: { show: false },
    axisLabel: { color: css('--ink2'), fontFamily: css('--mono'), fontSize: 11, hideOverlap: true },
    splitLine: { lineStyle: { color: css('--rule') } },
  }
  const numbers = values.filter((v): v is number => typeof v === 'number')
  if (numbers.length < values.length) return { ...look, type: 'category', data: inOrder(values) }
  const formatter = (v: number) => number(Number(v.toPrecision(4)))
  if (wide(numbers))
    return {
      ...look,
      type: 'log',
      min: Math.min(...numbers),
      max: Math.max(...numbers),
      axisLabel: { ...look.axisLabel, formatter },
    }
  return { ...look, type: 'value', scale: true, axisLabel: { ...look.axisLabel, formatter } }
}

/** A hyperparameter of a run as it is drawn: a number, or a word. */
export function drawnValue(p: Point, name: string): number | string {
  const v = p.hyper[name]
  if (typeof v === 'number') return v
  return v === undefined ? 'absent' : hyper(v)
}
const kinds = (points: Point[], name: string) => {
  const values = points.map((p) => drawnValue(p, name))
  return values.every((v) => typeof v === 'number') ? values : values.map(String)
}

/** Colours from the best to the worst. */
const scale = (lower: boolean) => {
  const list = [css('--c1'), css('--c3'), css('--c5'), css('--c2')]
  return lower ? list : list.reverse()
}

/** A hyperparameter against the figure, or against another with the figure as colour. */
export function scatter(m: Mattered, x: string, y: string, project: string): EChartsCoreOption {
  const points = m.points ?? []
  const xs = kinds(points, x)
  const ys = y ? kinds(points, y) : points.map((p) => Number(p.figure))
  const figures = points.map((p) => Number(p.figure))
  return {
    ...base(),
    grid: { left: 62, right: y ? 90 : 20, top: 14, bottom: 42 },
    xAxis: axis(x, xs),
    yAxis: { ...axis(y || m.figure, ys), nameGap: 44 },
    ...(y
      ? {
          visualMap: {
            dimension: 2,
            min: Math.min(...figures),
            max: Math.max(...figures),
            precision: 3,
            right: 0,
            top: 'middle',
            itemHeight: 110,
            itemWidth: 10,
            textStyle: { color: css('--ink2') },
            inRange: { color: scale(m.lower) },
          },
        }
      : {}),
    series: [
      {
        type: 'scatter',
        symbolSize: 9,
        itemStyle: y ? {} : { color: 'transparent', borderColor: css('--accent'), borderWidth: 1.6 },
        data: points.map((p, i) => ({
          value: [xs[i], ys[i], figures[i]],
          name: `${project}/${p.run} ${p.title}`,
          run: p.run,
        })),
        tooltip: {
          formatter: (e: { name: string; value: (number | string)[] }) =>
            `${e.name}\n${x} ${e.value[0]}${y ? `\n${y} ${e.value[1]}` : ''}\n${m.figure} ${number(Number(e.value[2]))}`,
        },
      },
    ],
  }
}

/** Words beside an axis of parallel coordinates at most. */
const mostWords = 9

/** The share of the runs that parallel coordinates begin with. */
const bestShare = 0.1

/** Every run as a line over its hyperparameters and the figure; brushed, to begin with, on the best tenth. */
export function parallel(
  m: Mattered,
  names: string[],
  project: string,
): { option: EChartsCoreOption; brush: [number, number] } {
  const points = m.points ?? []
  const figures = points.map((p) => Number(p.figure))
  const sorted = [...figures].sort((a, b) => (m.lower ? a - b : b - a))
  const edge = sorted[Math.max(0, Math.ceil(sorted.length * bestShare) - 1)] ?? 0
  const low = Math.min(...figures)
  const high = Math.max(...figures)
  // The axis goes a little beyond the figures, so that the brush has both ends on it.
  const log = wide(figures)
  const margin = (high - low) * 0.02 || 1e-9
  const beyond = log ? [low / 1.05, high * 1.05] : [low - margin, high + margin]
  const columns = names.map((n) => kinds(points, n))
  const axes = [
    ...names.map((n, dim) => ({ dim, ...axis(n, columns[dim]) })),
    { dim: names.length, ...axis(m.figure, figures), min: beyond[0], max: beyond[1] },
  ]
  return {
    brush: m.lower
      ? [beyond[0], log ? edge * 1.01 : edge + margin / 2]
      : [log ? edge / 1.01 : edge - margin / 2, beyond[1]],
    option: {
      ...base(),
      parallel: { left: 50, right: 70, top: 34, bottom: 16, axisExpandable: false },
      parallelAxis: axes.map((a) => ({
        ...a,
        nameLocation: 'end',
        nameGap: 12,
        areaSelectStyle: { color: css('--accent'), opacity: 0.15, borderColor: css('--accent'), width: 14 },
        axisLine: { lineStyle: { color: css('--rule2') } },
        axisLabel: {
          ...(a.axisLabel as object),
          backgroundColor: css('--paper'),
          padding: [1, 3],
          ...('data' in a ? { interval: Math.ceil(a.data.length / mostWords) - 1 } : {}),
        },
      })),
      series: [
        {
          type: 'parallel',
          lineStyle: { width: 1.6, opacity: 0.9, color: css('--accent') },
          activeOpacity: 0.95,
          inactiveOpacity: 0.12,
          data: points.map((p, i) => ({
            value: [...columns.map((c) => c[i]), figures[i]],
            name: `${project}/${p.run}`,
          })),
        },
      ],
    },
  }
}

/** How much the most important hyperparameters act together, two by two. */
export function interactions(m: Mattered): { option: EChartsCoreOption; names: string[] } {
  const pairs = m.pairs ?? []
  const names = [...new Set(pairs.flatMap((p) => [p.a, p.b]))]
  const order = (m.influences ?? []).map((v) => v.name).filter((n) => names.includes(n))
  const most = Math.max(0.01, ...pairs.map((p) => Number(p.strength)))
  const cells = pairs.flatMap((p) => {
    const [a, b] = [order.indexOf(p.a), order.indexOf(p.b)]
    const strength = Number(p.strength)
    const value = [Math.min(a, b), Math.max(a, b), strength]
    return [{ value, label: { color: css(strength > most / 2 ? '--paper' : '--ink') } }]
  })
  const look = (data: string[], width: number) => ({
    type: 'category',
    data,
    axisTick: { show: false },
    axisLine: { show: false },
    axisLabel: { color: css('--ink2'), interval: 0, rotate: 0, fontSize: 10, overflow: 'truncate', width },
    splitArea: { show: false },
  })
  return {
    names: order,
    option: {
      ...base(),
      grid: { left: 84, right: 14, top: 8, bottom: 26 },
      xAxis: look(order, 52),
      yAxis: look(order, 78),
      visualMap: { show: false, min: 0, max: most, inRange: { color: [css('--sheet'), css('--accent')] } },
      series: [
        {
          type: 'heatmap',
          data: cells,
          itemStyle: { borderColor: css('--paper'), borderWidth: 2 },
          label: {
            show: true,
            fontFamily: css('--mono'),
            formatter: (e: { value: number[] }) => e.value[2].toFixed(2),
          },
          tooltip: {
            formatter: (e: { value: number[] }) =>
              `${order[e.value[0]]} and ${order[e.value[1]]}: ${e.value[2].toFixed(3)}`,
          },
        },
      ],
    },
  }
}

/** Two figures against each other; the runs that no other beats are filled and joined. A third figure is the size of the point. */
export function tradeOff(t: TradeOff, project: string): EChartsCoreOption {
  const points = t.points ?? []
  const at = (i: number) => points.map((p) => Number(p.values?.[i]))
  const third = t.figures.length > 2 ? at(2) : []
  const size = (i: number) => {
    if (!third.length) return 10
    const low = Math.min(...third)
    const span = Math.max(...third) - low
    return 7 + (span > 0 ? (14 * (third[i] - low)) / span : 0)
  }
  const better = (i: number) => (t.lower[i] ? '↓' : '↑')
  return {
    ...base(),
    grid: { left: 66, right: 40, top: 22, bottom: 42 },
    xAxis: axis(`${t.figures[0]} ${better(0)}`, at(0)),
    yAxis: { ...axis(`${t.figures[1]} ${better(1)}`, at(1)), nameGap: 46 },
    series: [
      {
        type: 'scatter',
        data: points.map((p, i) => ({
          value: p.values,
          name: `${project}/${p.run} ${p.title}`,
          run: p.run,
          symbol: p.undominated ? 'diamond' : 'circle',
          symbolSize: size(i) + (p.undominated ? 4 : 0),
          itemStyle: p.undominated
            ? { color: css('--accent') }
            : { color: 'transparent', borderColor: css('--ink3'), borderWidth: 1.4 },
          label: p.undominated
            ? {
                show: true,
                formatter: String(p.run),
                position: 'top',
                color: css('--ink'),
                fontFamily: css('--mono'),
                fontSize: 11,
              }
            : { show: false },
        })),
        tooltip: {
          formatter: (e: { name: string; value: number[] }) =>
            [e.name, ...t.figures.map((f, i) => `${f} ${number(e.value[i])}`)].join('\n'),
        },
      },
    ],
  }
}
