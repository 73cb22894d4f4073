import type { Finding } from '../api/client'

const tones: Record<string, string> = { error: 'var(--bad)', warning: 'var(--settling)', note: 'var(--ink-2)' }

/** The mark of a severity: a square, a triangle, a ring; the same at a field, on the rail and in the strip. */
export function FindingMark({ severity, size = 13 }: { severity: string; size?: number }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      role="img"
      aria-label={severity}
      style={{ color: tones[severity], flex: 'none', marginTop: 3 }}
    >
      {severity === 'error' ? (
        <rect x="1.5" y="1.5" width="13" height="13" rx="2" fill="currentColor" />
      ) : severity === 'warning' ? (
        <path d="M8 1.6L15 14H1z" fill="currentColor" />
      ) : (
        <circle cx="8" cy="8" r="5.6" fill="none" stroke="currentColor" strokeWidth="2" />
      )}
    </svg>
  )
}

/** Inputs that a finding is about or comes from. */
export const inputsOf = (f: Finding) => (f.inputs ?? '').split(',').filter(Boolean)

/** Findings as a list: each with its mark, its place and what to do. */
export function Findings({ list }: { list: Finding[] }) {
  return (
    <ul className="space-y-1.5">
      {list.map((f) => (
        <li key={f.code + f.place + f.message} className="flex gap-2">
          <FindingMark severity={f.severity} />
          <span className="w-14 flex-none text-small font-semibold" style={{ color: tones[f.severity] }}>
            {f.severity}
          </span>
          <span>
            <span className="font-mono text-small">{f.place}</span> {f.message}
            {f.remedy && <span className="block text-small text-ink-2">What to do: {f.remedy}</span>}
          </span>
        </li>
      ))}
    </ul>
  )
}
