import { useEffect, useRef } from 'react'
import UPlot from 'uplot'
import { clock } from './words'
import 'uplot/dist/uPlot.min.css'

export interface Line {
  label: string
  values: (number | null)[]
  strong?: boolean
  steps?: boolean
}

/** Moments along an axis: seconds where it spans minutes, days where it spans days. */
function moments(list: number[]): string[] {
  const each = list.length > 1 ? list[1]! - list[0]! : 0
  return list.map((t) =>
    each >= 86_400 ? new Date(t * 1000).toLocaleDateString('sv-SE') : clock(t * 1000).slice(0, each < 60 ? 8 : 5),
  )
}

/** A colour of the page as the canvas wants it. */
const token = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

/**
 * Lines over a common axis. The drawing is for the eye alone: whoever reads otherwise gets the words that
 * stand for it, and the figures must stand in the page too.
 */
export default function Plot({
  x,
  lines,
  height,
  words,
  xText,
  yText,
  time = false,
}: {
  x: number[]
  lines: Line[]
  height: number
  words: string
  xText?: (v: number) => string
  yText: (v: number) => string
  time?: boolean
}) {
  const host = useRef<HTMLDivElement>(null)
  useEffect(() => {
    const at = host.current!
    const draw = () => {
      const axis = {
        stroke: token('--ink-2'),
        grid: { stroke: token('--line'), width: 1 },
        ticks: { stroke: token('--line'), width: 1, size: 4 },
        font: `12px ${getComputedStyle(at).fontFamily}`,
      }
      return new UPlot(
        {
          width: at.clientWidth,
          height,
          padding: [8, 22, 0, 0],
          cursor: { show: false },
          legend: { show: false },
          select: { show: false, left: 0, top: 0, width: 0, height: 0 },
          scales: { x: { time }, y: { range: (_, __, most) => [0, most > 0 ? most * 1.12 : 1] } },
          axes: [
            {
              ...axis,
              size: 26,
              ...(time
                ? { space: 80, values: (_: UPlot, list: number[]) => moments(list) }
                : xText
                  ? { values: (_: UPlot, list: number[]) => list.map(xText) }
                  : {}),
            },
            { ...axis, size: 56, space: 26, values: (_, list) => list.map(yText) },
          ],
          series: [
            {},
            ...lines.map((l) => ({
              label: l.label,
              stroke: token(l.strong ? '--accent' : '--ink-2'),
              width: l.strong ? 2.5 : 1,
              points: { show: false },
              ...(l.steps ? { paths: UPlot.paths.stepped!({ align: 1 }) } : {}),
              ...(l.strong && l.steps ? { fill: token('--accent-soft') } : {}),
            })),
          ],
        },
        [x, ...lines.map((l) => l.values)],
        at,
      )
    }
    let plot = draw()
    const again = () => {
      plot.destroy()
      plot = draw()
    }
    const size = new ResizeObserver(() => plot.setSize({ width: at.clientWidth, height }))
    size.observe(at)
    // A canvas keeps the colours that it was drawn in.
    const theme = new MutationObserver(again)
    theme.observe(document.documentElement, { attributeFilter: ['data-theme'] })
    const system = matchMedia('(prefers-color-scheme: dark)')
    system.addEventListener('change', again)
    return () => {
      size.disconnect()
      theme.disconnect()
      system.removeEventListener('change', again)
      plot.destroy()
    }
  }, [x, lines, height, xText, yText, time])
  return <div ref={host} role="img" aria-label={words} style={{ height }} />
}
