/** One family of colour for each state; shape and word tell it first. */
const tones: Record<string, string> = {
  waiting: 'waiting',
  queued: 'waiting',
  absent: 'waiting',
  open: 'working',
  accepted: 'working',
  working: 'working',
  underway: 'working',
  removing: 'working',
  undoing: 'working',
  settling: 'settling',
  stopping: 'settling',
  parked: 'settling',
  healthy: 'healthy',
  done: 'healthy',
  applied: 'healthy',
  unhealthy: 'bad',
  failed: 'bad',
  missing: 'bad',
  refused: 'bad',
}

const tone = (state: string) => tones[state] ?? 'idle'
export const toneColor = (state: string) => `var(--${tone(state)})`
export const toneGround = (state: string) => `var(--${tone(state)}-soft)`

/** The shape of a state: it can be told apart without any colour. */
export function StateMark({ state, size = 14 }: { state: string; size?: number }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      aria-hidden="true"
      style={{ color: toneColor(state), flex: 'none' }}
    >
      <Shape state={state} />
    </svg>
  )
}

function Shape({ state }: { state: string }) {
  const ring = { fill: 'none', stroke: 'currentColor', strokeWidth: 2 }
  switch (state) {
    case 'healthy':
    case 'done':
    case 'applied':
      return (
        <>
          <circle cx="8" cy="8" r="7" fill="currentColor" />
          <path
            d="M4.8 8.3l2.2 2.2 4.2-4.6"
            fill="none"
            stroke="var(--sheet)"
            strokeWidth="1.9"
            strokeLinecap="round"
            strokeLinejoin="round"
          />
        </>
      )
    case 'working':
    case 'underway':
    case 'removing':
    case 'undoing':
      return <circle className="turning" cx="8" cy="8" r="6" {...ring} strokeDasharray="5.4 4" />
    case 'settling':
    case 'stopping':
    case 'parked':
      return (
        <>
          <circle cx="8" cy="8" r="6" {...ring} />
          <path d="M8 2a6 6 0 0 1 0 12z" fill="currentColor" />
        </>
      )
    case 'unhealthy':
      return <path d="M8 1.6L15 14H1z" fill="currentColor" />
    case 'failed':
    case 'refused':
      return (
        <>
          <rect x="1.5" y="1.5" width="13" height="13" rx="2" fill="currentColor" />
          <path d="M5.2 5.2l5.6 5.6m0-5.6l-5.6 5.6" stroke="var(--sheet)" strokeWidth="1.9" strokeLinecap="round" />
        </>
      )
    case 'kept':
      return (
        <>
          <circle cx="8" cy="8" r="6" {...ring} />
          <circle cx="8" cy="8" r="2.4" fill="currentColor" />
        </>
      )
    case 'skipped':
      return <rect x="3" y="7" width="10" height="2.4" rx="1.2" fill="currentColor" />
    case 'paused':
    case 'stopped':
      return <path d="M5 3v10M11 3v10" stroke="currentColor" strokeWidth="2.6" strokeLinecap="round" />
    case 'missing':
      return <circle cx="8" cy="8" r="6" {...ring} strokeDasharray="1.6 2.6" />
    case 'removed':
    case 'undone':
    case 'stale':
    case 'expired':
      return (
        <>
          <circle cx="8" cy="8" r="6" {...ring} />
          <path d="M3 13L13 3" stroke="currentColor" strokeWidth="2" />
        </>
      )
  }
  return <circle cx="8" cy="8" r="6" {...ring} />
}

/** Shape and word together, as in lists. */
export function State({ state, word = state }: { state: string; word?: string }) {
  return (
    <span className="inline-flex items-center gap-2">
      <StateMark state={state} />
      <span>{word}</span>
    </span>
  )
}

/** Shape and word on a ground of their own, beside a title. */
export function StatePill({ state }: { state: string }) {
  return (
    <span
      className="inline-flex items-center gap-1.5 rounded-full px-2.5 py-0.5 text-small font-semibold"
      style={{ color: toneColor(state), background: toneGround(state) }}
    >
      <StateMark state={state} size={12} />
      {state}
    </span>
  )
}
