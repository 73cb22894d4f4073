import { useSyncExternalStore } from 'react'

/** When the connection was lost, or null while it is there. */
let lostAt: number | null = null
const listeners = new Set<() => void>()

export function setConnected(there: boolean) {
  const next = there ? null : (lostAt ?? Date.now())
  if (next === lostAt) return
  lostAt = next
  listeners.forEach((l) => l())
}

export const useLostAt = () =>
  useSyncExternalStore(
    (l) => {
      listeners.add(l)
      return () => listeners.delete(l)
    },
    () => lostAt,
  )
