import ELK, { type ElkExtendedEdge, type ElkNode } from 'elkjs/lib/elk.bundled.js'
import { useEffect, useMemo, useState } from 'react'
import { StateMark, toneColor, toneGround } from './state'

export interface GraphNode { id: string; label: string; state: string; word?: string; critical?: boolean }
export interface GraphEdge { from: string; to: string; critical?: boolean }

const elk = new ELK()
const HEIGHT = 42
const FOLD_ABOVE = 60

/** Ranks states so that a folded group shows the one that needs attention most. */
const urgency = ['failed', 'unhealthy', 'missing', 'settling', 'working', 'removing', 'waiting', 'skipped', 'absent', 'healthy', 'removed']

/** Folds repeated resources into one node each when there are too many to read. */
function fold(nodes: GraphNode[], edges: GraphEdge[]): { nodes: GraphNode[]; edges: GraphEdge[] } {
  if (nodes.length <= FOLD_ABOVE) return { nodes, edges }
  const group = (id: string) => id.split('[')[0] ?? id
  const groups = new Map<string, GraphNode[]>()
  for (const n of nodes) groups.set(group(n.id), [...(groups.get(group(n.id)) ?? []), n])
  const folded = [...groups].map(([id, members]) => {
    const state = urgency.find((s) => members.some((m) => m.state === s)) ?? members[0]!.state
    return members.length === 1 ? { ...members[0]!, id } : { id, label: `${id} × ${members.length}`, state, word: `${members.filter((m) => m.state === state).length} ${state}`, critical: members.some((m) => m.critical) }
  })
  const seen = new Map<string, GraphEdge>()
  for (const e of edges) {
    const from = group(e.from), to = group(e.to)
    if (from !== to) seen.set(`${from} ${to}`, { from, to, critical: e.critical || seen.get(`${from} ${to}`)?.critical })
  }
  return { nodes: folded, edges: [...seen.values()] }
}

/** Drops edges that a longer way already tells: they only make the picture hard to read. */
function reduce(edges: GraphEdge[]): GraphEdge[] {
  const next = new Map<string, string[]>()
  for (const e of edges) next.set(e.from, [...(next.get(e.from) ?? []), e.to])
  const reaches = new Map<string, Set<string>>()
  const reach = (id: string): Set<string> => {
    const known = reaches.get(id)
    if (known) return known
    const all = new Set<string>()
    reaches.set(id, all)
    for (const to of next.get(id) ?? []) {
      all.add(to)
      for (const further of reach(to)) all.add(further)
    }
    return all
  }
  return edges.filter((e) => !(next.get(e.from) ?? []).some((other) => other !== e.to && reach(other).has(e.to)))
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
 * What waits for what, left to right. Edges are routed around nodes by the
 * layout, so none crosses a node.
 */
export default function Graph({ nodes, edges, selected, onSelect, label }: {
  nodes: GraphNode[]; edges: GraphEdge[]; selected?: string | null; onSelect?: (id: string) => void; label: string
}) {
  const view = useMemo(() => {
    const folded = fold(nodes, edges)
    return { nodes: folded.nodes, edges: reduce(folded.edges) }
  }, [nodes, edges])
  const shape = JSON.stringify([view.nodes.map((n) => n.id + widthOf(n)), view.edges.map((e) => e.from + '>' + e.to)])
  const [layout, setLayout] = useState<ElkNode | null>(null)
  useEffect(() => {
    let current = true
    void elk.layout({
      id: 'root',
      layoutOptions: {
        'elk.algorithm': 'layered', 'elk.direction': 'RIGHT', 'elk.edgeRouting': 'SPLINES', 'elk.layered.spacing.nodeNodeBetweenLayers': '26', 'elk.layered.spacing.edgeNodeBetweenLayers': '8', 'elk.layered.spacing.edgeEdgeBetweenLayers': '6',
        'elk.spacing.nodeNode': '18', 'elk.spacing.edgeNode': '12', 'elk.layered.nodePlacement.strategy': 'NETWORK_SIMPLEX', 'elk.padding': '[top=8,left=8,bottom=8,right=8]',
      },
      children: view.nodes.map((n) => ({ id: n.id, width: widthOf(n), height: HEIGHT })),
      edges: view.edges.map((e) => ({ id: `${e.from}>${e.to}`, sources: [e.from], targets: [e.to] })),
    }).then((done) => { if (current) setLayout(done) })
    return () => { current = false }
    // The layout depends on which nodes and edges there are, not on their states.
  }, [shape])
  if (!layout?.children) return <div role="status" aria-label="Drawing" className="h-full" />
  const byId = new Map(view.nodes.map((n) => [n.id, n]))
  const critical = new Set(view.edges.filter((e) => e.critical).map((e) => `${e.from}>${e.to}`))
  const drawn = (layout.edges ?? []).toSorted((a, b) => Number(critical.has(a.id)) - Number(critical.has(b.id)))
  return (
    <svg role="group" aria-label={label} viewBox={`0 0 ${layout.width} ${layout.height}`} className="mx-auto block h-full w-full" style={{ maxWidth: layout.width, maxHeight: layout.height, minWidth: (layout.width ?? 0) * 0.5 }}>
      {drawn.map((e) => (
        <path key={e.id} d={pathOf(e)} fill="none" stroke={critical.has(e.id) ? 'var(--path)' : 'var(--line)'} strokeWidth={critical.has(e.id) ? 2.2 : 1.5} />
      ))}
      {layout.children.map((box) => {
        const node = byId.get(box.id)
        if (!node) return null
        const idle = node.state === 'waiting' || node.state === 'absent'
        return (
          <g
            key={box.id} transform={`translate(${box.x},${box.y})`} role={onSelect ? 'button' : undefined} tabIndex={onSelect ? 0 : undefined} aria-label={`${node.label}, ${node.word ?? node.state}`}
            data-resource={node.id} data-state={node.state} onClick={() => onSelect?.(node.id)} onKeyDown={(k) => { if (k.key === 'Enter' || k.key === ' ') { k.preventDefault(); onSelect?.(node.id) } }}
          >
            <rect
              width={box.width} height={HEIGHT} rx="7" fill={toneGround(node.state)} strokeWidth={selected === node.id ? 2 : 1}
              stroke={selected === node.id ? 'var(--accent)' : idle ? 'var(--line)' : toneColor(node.state)} strokeOpacity={selected === node.id || idle ? 1 : 0.55}
            />
            <g transform="translate(11,8)"><StateMark state={node.state} /></g>
            <text x="32" y="19" fontSize="13" fontWeight="600" fill="var(--ink)">{lines(node)[0]}</text>
            <text x="32" y="34" fontSize="11.5" fill="var(--ink-2)">{lines(node)[1]}</text>
          </g>
        )
      })}
    </svg>
  )
}

function pathOf(edge: ElkExtendedEdge): string {
  const section = edge.sections?.[0]
  if (!section) return ''
  const points = [...(section.bendPoints ?? []), section.endPoint]
  let d = `M${section.startPoint.x},${section.startPoint.y}`
  // Spline routing gives control points in threes; a straight edge gives one.
  for (let i = 0; i + 2 < points.length; i += 3) d += ` C${points[i]!.x},${points[i]!.y} ${points[i + 1]!.x},${points[i + 1]!.y} ${points[i + 2]!.x},${points[i + 2]!.y}`
  const rest = points.length % 3
  for (let i = points.length - rest; i < points.length; i++) d += ` L${points[i]!.x},${points[i]!.y}`
  return d
}
