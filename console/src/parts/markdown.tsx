import { lazy, Suspense } from 'react'

const Rendered = lazy(() => import('./rendered'))

/** What guides say, as Markdown: as plain text until what reads it is there, which no page waits for. */
export const Markdown = ({ text }: { text: string }) => (
  <Suspense fallback={<p className="whitespace-pre-line">{text}</p>}>
    <Rendered text={text} />
  </Suspense>
)
