import type { Nodes } from 'mdast'
import { fromMarkdown } from 'mdast-util-from-markdown'
import { Fragment, type ReactNode } from 'react'

/** What guides say, as Markdown. HTML in it stays text, and a link leads only to a page of the web. */
export default function Rendered({ text }: { text: string }) {
  return <div className="space-y-1.5">{inside(fromMarkdown(text))}</div>
}

const inside = (node: { children: Nodes[] }): ReactNode[] =>
  node.children.map((child, i) => <Fragment key={i}>{drawn(child)}</Fragment>)

/** One node of the text with what is inside; what guides have no use for shows its words. */
function drawn(node: Nodes): ReactNode {
  switch (node.type) {
    case 'heading':
      return <h3 className="font-semibold">{inside(node)}</h3>
    case 'paragraph':
      return <p>{inside(node)}</p>
    case 'list':
      return node.ordered ? (
        <ol className="list-decimal space-y-1 pl-5" start={node.start ?? 1}>
          {inside(node)}
        </ol>
      ) : (
        <ul className="list-disc space-y-1 pl-5">{inside(node)}</ul>
      )
    case 'listItem':
      return <li>{inside(node)}</li>
    case 'strong':
      return <strong>{inside(node)}</strong>
    case 'emphasis':
      return <em>{inside(node)}</em>
    case 'inlineCode':
      return <code className="font-mono text-small [overflow-wrap:anywhere]">{node.value}</code>
    case 'code':
      return <pre className="overflow-x-auto font-mono text-small">{node.value}</pre>
    case 'link':
      return /^https?:/.test(node.url) ? (
        <a href={node.url} rel="noreferrer">
          {inside(node)}
        </a>
      ) : (
        inside(node)
      )
    case 'break':
      return <br />
    default:
      if ('children' in node) return inside(node)
      return 'value' in node ? node.value : null
  }
}
