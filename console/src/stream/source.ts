/** What a stream tells whoever follows it. */
export interface Heard {
  /** An event with its kind ("message" where it has none) and what it holds. */
  event: (kind: string, data: string) => void
  /** The connection is lost, or is there again. */
  connected?: (there: boolean) => void
}

/** A stream that is followed. */
export interface Following {
  stop: () => void
  /** Looks at once whether it is there again. */
  hurry: () => void
}

/**
 * Follows a stream of server-sent events for as long as it is wanted. A browser comes back
 * by itself from a cut connection, but gives up for good after an answer that is no
 * stream; this begins anew then, behind the event that it saw last, so that none is missed.
 */
export function follow(url: string, kinds: string[], heard: Heard): Following {
  let source: EventSource | undefined
  let timer: ReturnType<typeof setTimeout> | undefined
  let last = ''
  let pause = 500
  let there: boolean | undefined
  const tell = (now: boolean) => {
    if (there !== now) {
      there = now
      heard.connected?.(now)
    }
  }
  const open = () => {
    source = new EventSource(last ? `${url}?after=${encodeURIComponent(last)}` : url)
    source.onopen = () => {
      pause = 500
      tell(true)
    }
    source.onerror = () => {
      tell(false)
      if (source?.readyState !== EventSource.CLOSED) return // it comes back by itself
      source.close()
      timer = setTimeout(open, pause)
      pause = Math.min(pause * 2, 8000)
    }
    for (const kind of kinds) {
      source.addEventListener(kind, (message) => {
        const e = message as MessageEvent<string>
        if (e.lastEventId) last = e.lastEventId
        heard.event(kind, e.data)
      })
    }
  }
  open()
  return {
    stop: () => {
      clearTimeout(timer)
      source?.close()
    },
    hurry: () => {
      if (there) return
      clearTimeout(timer)
      source?.close()
      pause = 500
      open()
    },
  }
}
