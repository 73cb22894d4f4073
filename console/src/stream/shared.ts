import { follow, type Following, type Heard } from './source'

interface Told {
  kind?: string
  data?: string
  connected?: boolean
}

/** Hears every change of the service, over the one stream that all pages of this browser share where it can. */
export function changes(heard: Heard): Following {
  if (typeof SharedWorker === 'undefined') return follow('/api/v1/stream', ['stack', 'reset'], heard)
  const worker = new SharedWorker(new URL('./worker.ts', import.meta.url), {
    type: 'module',
    name: 'undersail changes',
  })
  worker.port.onmessage = (m: MessageEvent<Told>) => {
    if (m.data.connected !== undefined) heard.connected?.(m.data.connected)
    if (m.data.kind !== undefined) heard.event(m.data.kind, m.data.data ?? '')
  }
  const leave = () => worker.port.postMessage('leave')
  window.addEventListener('pagehide', leave)
  return {
    stop: () => {
      window.removeEventListener('pagehide', leave)
      leave()
      worker.port.close()
    },
    hurry: () => worker.port.postMessage('hurry'),
  }
}
