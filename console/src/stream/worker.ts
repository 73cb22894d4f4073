import { follow, type Following } from './source'

/** One stream of changes for all pages of a browser: it allows few connections to a service. */
const pages = new Set<MessagePort>()
let there: boolean | undefined
const tell = (message: unknown) => pages.forEach((page) => page.postMessage(message))

const shared = self as unknown as { onconnect: (e: MessageEvent) => void }
let stream: Following | undefined

shared.onconnect = (e) => {
  const page = e.ports[0]
  if (!page) return
  pages.add(page)
  page.onmessage = (m: MessageEvent<string>) => {
    if (m.data === 'hurry') return stream?.hurry()
    pages.delete(page)
    if (pages.size === 0) {
      stream?.stop()
      stream = undefined
      there = undefined
    }
  }
  stream ??= follow('/api/v1/stream', ['stack', 'reset'], {
    event: (kind, data) => tell({ kind, data }),
    connected: (now) => {
      there = now
      tell({ connected: now })
    },
  })
  if (there !== undefined) page.postMessage({ connected: there })
}
