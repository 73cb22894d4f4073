import { useState } from 'react'
import type { Evidence } from '../api/client'
import { clock } from './words'

/** What checks asked and got. A line is cut to its row until it is opened; then it is read whole. */
export function EvidenceList({ list, waiting }: { list: Evidence[]; waiting: string }) {
  const [open, setOpen] = useState<string | null>(null)
  return (
    <ol className="space-y-0.5 font-mono text-small">
      {list.map((e) => {
        const key = e.at + e.check
        const whole = open === key
        return (
          <li key={key}>
            <button
              type="button"
              aria-expanded={whole}
              onClick={() => setOpen(whole ? null : key)}
              className="flex w-full gap-3 text-left"
            >
              <span className="flex-none font-semibold">{clock(e.at)}</span>
              <span className={`min-w-0 flex-1 ${whole ? 'whitespace-pre-wrap [overflow-wrap:anywhere]' : 'truncate'}`}>
                <span className="text-ink-2">asked</span> {e.asked}{' '}
                <span className="text-ink-2">{whole ? `\n${e.took_ms} ms later it got` : 'got'}</span> {e.answer}
              </span>
              <span
                className="flex-none"
                style={{ color: e.unasked ? 'var(--ink-2)' : e.passed ? 'var(--healthy)' : 'var(--settling)' }}
              >
                {e.unasked ? 'not asked' : e.passed ? 'pass' : waiting}
              </span>
            </button>
          </li>
        )
      })}
    </ol>
  )
}
