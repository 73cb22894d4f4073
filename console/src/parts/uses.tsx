import type { Proposal } from '../api/client'
import { Sheet } from './ui'

type Use = Proposal['uses'][number]

const purposes: Record<string, string> = {
  property: 'a property',
  check: 'a check',
  'sign-in': 'signing in',
  command: 'a command',
  answer: 'what a machine that has it answers',
  output: 'an output',
  people: 'people signing in',
}

/** What secrets are opened for, what is new first: which, where to, and everything that goes with them. */
export function Uses({ list }: { list: Use[] }) {
  const fresh = list.filter((u) => u.new)
  const agreed = list.filter((u) => !u.new)
  return (
    <Sheet
      title="What secrets are opened for"
      note={fresh.length > 0 ? `${fresh.length} new, ${agreed.length} agreed to before` : 'all agreed to before'}
    >
      <ul className="space-y-3">
        {fresh.map((u) => (
          <UseLine key={u.digest} u={u} />
        ))}
      </ul>
      {agreed.length > 0 && (
        <details className={fresh.length > 0 ? 'mt-3' : ''}>
          <summary className="cursor-pointer text-ink-2">Agreed to before: {agreed.length}</summary>
          <ul className="mt-2 space-y-3">
            {agreed.map((u) => (
              <UseLine key={u.digest} u={u} />
            ))}
          </ul>
        </details>
      )}
    </Sheet>
  )
}

function UseLine({ u }: { u: Use }) {
  const lines = textOf(u.text)
  return (
    <li className="min-w-0">
      <p className="flex flex-wrap items-baseline gap-x-2">
        {u.new && <span className="rounded-[4px] border border-settling px-1.5 text-small font-semibold">new</span>}
        <span className="font-mono text-small">{u.secrets.join(', ')}</span>
        <span>
          for {purposes[u.for] ?? u.for}: <span className="font-semibold">{u.at}</span>
          {(u.members?.length ?? 0) > 1 && ` (${u.members?.length} of them)`}
        </span>
      </p>
      <p className="text-ink-2">
        to {u.to}
        {u.by && `; written by ${u.by}`}
      </p>
      {lines.length > 0 && (
        <pre
          tabIndex={0}
          aria-label={`What goes with it: ${u.at}`}
          className="mt-1 max-h-[180px] overflow-auto rounded-[6px] border border-line bg-paper px-2.5 py-1.5 font-mono text-small whitespace-pre-wrap"
        >
          {lines.map((line, i) => (
            <Marked key={i} line={line} />
          ))}
        </pre>
      )}
      {u.made && (
        <p className="mt-1 text-small">
          More is made of it than putting it in its place: <code className="font-mono">={u.made}</code>
        </p>
      )}
      {u.waits && u.waits.length > 0 && (
        <p className="mt-1 text-small">Asked about once more when this is known: {u.waits.join(', ')}</p>
      )}
    </li>
  )
}

/** A line with what is not there yet, and what is sealed, told apart from the rest. */
function Marked({ line }: { line: string }) {
  return (
    <span className="block">
      {line.split(/(⟨[^⟩]*⟩|secret:[^\s⟩]+)/).map((part, i) =>
        i % 2 === 1 ? (
          <span key={i} className="font-semibold text-accent">
            {part}
          </span>
        ) : (
          part
        ),
      )}
    </span>
  )
}

/** Every leaf of a value on lines of its own, with its place. */
function textOf(value: unknown, path = ''): string[] {
  if (value === undefined || value === null) return []
  if (Array.isArray(value)) return value.flatMap((v, i) => textOf(v, `${path}[${i}]`))
  if (typeof value === 'object') {
    const pending = (value as { pending?: string[] }).pending
    if (pending) return [`${path && `${path}: `}waits for ${pending.join(', ')}`]
    return Object.entries(value)
      .sort(([a], [b]) => a.localeCompare(b))
      .flatMap(([k, v]) => textOf(v, path ? `${path}.${k}` : k))
  }
  const [first = '', ...rest] = String(value).replace(/\n$/, '').split('\n')
  return [path ? `${path}: ${first}` : first, ...rest.map((line) => `  ${line}`)]
}
