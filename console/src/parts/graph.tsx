import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useRef } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { StateMark, toneColor, toneGround } from './state'

export interface GraphNode {
  id: string
  label: string
  state: string
  word?: string
  critical?: boolean
}
export interface GraphEdge {
  from: string
  to: string
  critical?: boolean
}

const TALL = 42,
  SHORT = 25
const MARGIN = 8
const FOLD_ABOVE = 60
/** How much a drawing is made smaller at most: its smallest text is read still. */
const readable = 0.96

/** Ranks states so that a folded group shows the one that needs attention most. */
const urgency = [
  'failed',
  'unhealthy',
  'missing',
  'settling',
  'working',
  'removing',
  'waiting',
  'skipped',
  'absent',
  'healthy',
  'removed',
]

/** Folds repeated resources into one node each when there are too many to read. */
function fold(nodes: GraphNode[], edges: GraphEdge[], above: number): { nodes: GraphNode[]; edges: GraphEdge[] } {
  if (nodes.length <= above) return { nodes, edges }
  const group = (id: string) => id.split('[')[0] ?? id
  const groups = new Map<string, GraphNode[]>()
  for (const n of nodes) groups.set(group(n.id), [...(groups.get(group(n.id)) ?? []), n])
  const folded = [...groups].map(([id, members]) => {
    const state = urgency.find((s) => members.some((m) => m.state === s)) ?? members[0]!.state
    return members.length === 1
      ? { ...members[0]!, id }
      : {
          id,
          label: `${id} × ${members.length}`,
          state,
          word: `${members.filter((m) => m.state === state).length} ${state}`,
          critical: members.some((m) => m.critical),
        }
  })
  const seen = new Map<string, GraphEdge>()
  for (const e of edges) {
    const from = group(e.from),
      to = group(e.to)
    if (from !== to)
      seen.set(`${from} ${to}`, { from, to, critical: e.critical || seen.get(`${from} ${to}`)?.critical })
  }
  return { nodes: folded, edges: [...seen.values()] }
}

/** A long name of a repeated resource is told on two lines. */
function lines(n: GraphNode): [string, string] {
  const word = n.word ?? n.state
  const at = n.label.indexOf('[')
  if (at < 0 || n.label.length <= 14) return [n.label, word]
  return [n.label.slice(0, at), `${n.label.slice(at + 1, -1)}, ${word}`]
}

const widthOf = (n: GraphNode) => Math.max(92, lines(n)[0].length * 7.3 + 44, lines(n)[1].length * 6 + 42)

/**
 * What waits for what, left to right. The service lays it out: lines run around
 * boxes, so none crosses one, and those that a longer way tells are left out.
 */
export default function Graph({
  nodes,
  edges,
  selected,
  onSelect,
  label,
  compact = false,
}: {
  nodes: GraphNode[]
  edges: GraphEdge[]
  selected?: string | null
  onSelect?: (id: string) => void
  label: string
  /** Repeated resources stand for themselves once, and boxes have their names alone. */
  compact?: boolean
}) {
  const view = useMemo(() => fold(nodes, edges, compact ? 0 : FOLD_ABOVE), [nodes, edges, compact])
  const height = compact ? SHORT : TALL
  const width = Math.min(
    compact ? 104 : 230,
    Math.max(...view.nodes.map(compact ? (n) => n.label.length * 6.8 + 34 : widthOf), compact ? 50 : 92),
  )
  const at = new Map(view.nodes.map((n, i) => [n.id, i]))
  const body = {
    nodes: view.nodes.length,
    width,
    height,
    edges: view.edges.flatMap((e) => {
      const from = at.get(e.from),
        to = at.get(e.to)
      return from === undefined || to === undefined ? [] : [{ from, to }]
    }),
  }
  // The layout depends on which boxes and lines there are, not on their states.
  const layout = useQuery({
    queryKey: ['layout', body],
    queryFn: () => unwrap(api.POST('/api/v1/layout', { body })),
    staleTime: Infinity,
    placeholderData: (before) => (before?.nodes.length === body.nodes ? before : undefined),
  })
  // What does not fit is scrolled; what matters now is in sight.
  const box = useRef<SVGSVGElement>(null)
  const there = layout.data !== undefined
  const shown = selected ?? view.nodes.find((n) => n.critical)?.id
  useEffect(() => {
    const at = box.current?.querySelector(`[data-resource="${CSS.escape(shown ?? '')}"]`)?.getBoundingClientRect()
    const frame = scrolling(box.current)
    if (!at || !frame) return
    const within = frame.getBoundingClientRect()
    if (at.left < within.left || at.right > within.right)
      frame.scrollLeft += at.left + at.width / 2 - within.left - within.width / 2
    if (at.top < within.top || at.bottom > within.bottom)
      frame.scrollTop += at.top + at.height / 2 - within.top - within.height / 2
  }, [shown, there])
  if (!layout.data) return <div role="status" aria-label="Drawing" className="h-full" />
  const drawing = layout.data
  const critical = new Set(view.edges.filter((e) => e.critical).map((e) => `${at.get(e.from)}>${at.get(e.to)}`))
  const isCritical = (e: Schemas['DrawnEdge']) => critical.has(`${e.from}>${e.to}`)
  const ordered = drawing.edges.toSorted((a, b) => Number(isCritical(a)) - Number(isCritical(b)))
  const whole = { width: drawing.width + 2 * MARGIN, height: drawing.height + 2 * MARGIN }
  return (
    <svg
      role="group"
      aria-label={label}
      viewBox={`${-MARGIN} ${-MARGIN} ${whole.width} ${whole.height}`}
      ref={box}
      className="mx-auto block h-full w-full"
      style={{
        maxWidth: whole.width,
        maxHeight: whole.height,
        minWidth: whole.width * readable,
        minHeight: whole.height * readable,
      }}
    >
      {ordered.map((e) => (
        <path
          key={`${e.from}>${e.to}`}
          d={pathOf(e.points)}
          fill="none"
          stroke={isCritical(e) ? 'var(--path)' : 'var(--line)'}
          strokeWidth={isCritical(e) ? 2.2 : 1.5}
        />
      ))}
      {view.nodes.map((node, i) => {
        const centre = drawing.nodes[i]
        if (!centre) return null
        const shown = compact
          ? [clipped(node.label, (width - 30) / 6.6)]
          : [clipped(lines(node)[0], (width - 40) / 7.3), clipped(lines(node)[1], (width - 40) / 6)]
        const word = node.word ?? node.state
        const idle = node.state === 'waiting' || node.state === 'absent'
        return (
          <g
            key={node.id}
            transform={`translate(${centre.x - width / 2},${centre.y - height / 2})`}
            role={onSelect ? 'button' : 'img'}
            tabIndex={onSelect ? 0 : undefined}
            aria-label={`${shown.join(' ')}${shown[0] === node.label && shown.length > 1 ? '' : ` (${node.label}, ${word})`}`}
            data-resource={node.id}
            data-state={node.state}
            onClick={() => onSelect?.(node.id)}
            onKeyDown={(k) => {
              if (k.key === 'Enter' || k.key === ' ') {
                k.preventDefault()
                onSelect?.(node.id)
              }
            }}
          >
            <rect
              width={width}
              height={height}
              rx={compact ? 5 : 7}
              fill={toneGround(node.state)}
              strokeWidth={selected === node.id ? 2 : 1}
              stroke={selected === node.id ? 'var(--accent)' : idle ? 'var(--line)' : toneColor(node.state)}
              strokeOpacity={selected === node.id || idle ? 1 : 0.55}
            />
            <g transform={compact ? 'translate(8,6.5)' : 'translate(11,8)'}>
              <StateMark state={node.state} size={compact ? 12 : 14} />
            </g>
            {compact ? (
              <text x="25" y="17" fontSize="12" fontWeight="600" fill="var(--ink)">
                {shown[0]}
              </text>
            ) : (
              <>
                <text x="32" y="19" fontSize="13" fontWeight="600" fill="var(--ink)">
                  {shown[0]}{' '}
                </text>
                <text x="32" y="34" fontSize="11.5" fill="var(--ink-2)">
                  {shown[1]}
                </text>
              </>
            )}
          </g>
        )
      })}
    </svg>
  )
}

/** The box around a drawing that scrolls it. */
function scrolling(of: Element | null): Element | null {
  for (let e = of?.parentElement ?? null; e; e = e.parentElement)
    if (getComputedStyle(e).overflow.includes('auto')) return e
  return null
}

/** Keeps the end of a long name, which tells its siblings apart. */
function clipped(text: string, most: number): string {
  if (text.length <= most) return text
  const head = Math.floor(most / 3)
  return `${text.slice(0, head)}…${text.slice(text.length - Math.floor(most) + head + 1)}`
}

/** Flat curves: level at the layers, bent between them. */
function pathOf(points: Schemas['DrawnPoint'][]): string {
  return points
    .map((p, i) => {
      const before = points[i - 1]
      if (!before) return `M${p.x},${p.y}`
      if (before.y === p.y) return `L${p.x},${p.y}`
      const middle = (before.x + p.x) / 2
      return `C${middle},${before.y} ${middle},${p.y} ${p.x},${p.y}`
    })
    .join(' ')
}
