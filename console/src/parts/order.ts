import { useMemo } from 'react'
import type { GraphEdge, GraphNode } from './graph'

/** Something that is drawn, with what comes before it. */
export interface Ordered {
  name: string
  after: readonly string[]
}

/** The boxes and lines of what waits for what; the chain that decides how long it takes is marked. */
export function useOrder<T extends Ordered>(
  list: readonly T[],
  longest: readonly string[],
  look: (of: T) => { state: string; word: string },
): { nodes: GraphNode[]; edges: GraphEdge[] } {
  return useMemo(() => {
    const place = new Map(longest.map((name, i) => [name, i]))
    const there = new Set(list.map((n) => n.name))
    return {
      nodes: list.map((n) => ({ id: n.name, label: n.name, critical: place.has(n.name), ...look(n) })),
      edges: list.flatMap((n) =>
        n.after
          .filter((a) => there.has(a))
          .map((a) => ({ from: a, to: n.name, critical: place.has(a) && place.get(n.name) === place.get(a)! + 1 })),
      ),
    }
    // How a box looks follows from what it is.
    // eslint-disable-next-line
  }, [list, longest])
}
