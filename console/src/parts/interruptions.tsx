import type { Schemas } from '../api/client'
import { accountSpan, valueText } from './words'
import { Button } from './ui'

type Interruption = Schemas['Interruption']

/**
 * What one consent means: what is gone for how long, since which value, and which value would avoid it. Members
 * that fare alike stand together.
 */
export function Interruptions({
  list,
  consent,
  rate,
  onKeep,
}: {
  list: Interruption[]
  consent: string
  rate: number
  onKeep?: (input: string, value: unknown) => void
}) {
  const groups = new Map<string, Interruption[]>()
  for (const i of list) {
    if (i.how !== consent) continue
    const key = JSON.stringify({ ...i, resource: '' })
    groups.set(key, [...(groups.get(key) ?? []), i])
  }
  if (groups.size === 0) return null
  return (
    <ul className="mt-1 space-y-1 text-small">
      {[...groups].map(([key, members]) => {
        const i = members[0]!
        return (
          <li key={key}>
            <span className="font-semibold">
              {members.length > 4
                ? `${members
                    .slice(0, 3)
                    .map((m) => m.resource)
                    .join(', ')} and ${members.length - 3} more`
                : members.map((m) => m.resource).join(', ')}
            </span>
            {i.new_first
              ? ' is replaced: the new one is made before the old one goes'
              : i.seconds
                ? ` is gone for about ${accountSpan(i.seconds, rate)}`
                : i.how === 'remove'
                  ? ' goes for good'
                  : ''}
            {i.causes?.map((c) => (
              <span key={c.property} className="block text-ink-2">
                {c.input ? (
                  <>
                    input <span className="font-semibold text-ink">{c.input}</span>{' '}
                    {'was' in c && (
                      <>
                        <Value of={c.was} /> becomes <Value of={c.is} />
                      </>
                    )}
                  </>
                ) : (
                  <>
                    <span className="font-semibold text-ink">{c.property}</span> <Value of={c.before} /> becomes{' '}
                    <Value of={c.after} />
                  </>
                )}
                {c.input && c.input !== c.property && <> ({c.property} of it)</>}
                {c.input &&
                  'was' in c &&
                  (onKeep ? (
                    <Button small className="ml-2" onClick={() => onKeep(c.input!, c.was)}>
                      keep {valueText(c.was)}
                    </Button>
                  ) : (
                    <>
                      ; with <Value of={c.was} /> it would not happen
                    </>
                  ))}
              </span>
            ))}
          </li>
        )
      })}
    </ul>
  )
}

const Value = ({ of }: { of: unknown }) => {
  const text = valueText(of)
  return (
    <code className="font-mono text-ink" title={text}>
      {text.length > 60 ? `${text.slice(0, 57)}…` : text}
    </code>
  )
}
