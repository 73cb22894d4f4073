import { Fragment, type ReactNode } from 'react'

/** The little of Markdown that guides use: headings, lists, paragraphs, bold and code. Nothing of it becomes HTML. */
export function Markdown({ text }: { text: string }) {
  const blocks: { kind: 'h' | 'p' | 'ol' | 'ul'; lines: string[] }[] = []
  for (const raw of text.split('\n')) {
    const line = raw.trim()
    const last = blocks.at(-1)
    const heading = /^#{1,4}\s+(.*)$/.exec(line)
    const item = /^(?:(\d+)\.|[-*])\s+(.*)$/.exec(line)
    if (heading) blocks.push({ kind: 'h', lines: [heading[1] ?? ''] })
    else if (item) {
      const kind = item[1] ? 'ol' : 'ul'
      if (last?.kind === kind) last.lines.push(item[2] ?? '')
      else blocks.push({ kind, lines: [item[2] ?? ''] })
    } else if (line === '') blocks.push({ kind: 'p', lines: [] })
    else if (last && last.kind !== 'h' && last.lines.length > 0) last.lines[last.lines.length - 1] += ` ${line}`
    else blocks.push({ kind: 'p', lines: [line] })
  }
  return (
    <div className="space-y-1.5">
      {blocks
        .filter((b) => b.lines.length > 0)
        .map((b, i) => {
          const items = b.lines.map((line, k) => (
            <li key={k}>
              <Inline text={line} />
            </li>
          ))
          if (b.kind === 'h')
            return (
              <h3 key={i} className="font-semibold">
                <Inline text={b.lines[0] ?? ''} />
              </h3>
            )
          if (b.kind === 'ol')
            return (
              <ol key={i} className="list-decimal space-y-1 pl-5">
                {items}
              </ol>
            )
          if (b.kind === 'ul')
            return (
              <ul key={i} className="list-disc space-y-1 pl-5">
                {items}
              </ul>
            )
          return (
            <p key={i}>
              <Inline text={b.lines.join(' ')} />
            </p>
          )
        })}
    </div>
  )
}

function Inline({ text }: { text: string }): ReactNode {
  return text.split(/(`[^`]*`|\*\*[^*]+\*\*)/).map((part, i) => {
    if (part.startsWith('`') && part.endsWith('`') && part.length > 1)
      return (
        <code key={i} className="font-mono text-small [overflow-wrap:anywhere]">
          {part.slice(1, -1)}
        </code>
      )
    if (part.startsWith('**') && part.endsWith('**') && part.length > 4)
      return <strong key={i}>{part.slice(2, -2)}</strong>
    return <Fragment key={i}>{part}</Fragment>
  })
}
