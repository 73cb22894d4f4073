import { useMutation } from '@tanstack/react-query'
import { useEffect, useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { api, unwrap, Refusal } from '../api/client'
import { Button, Trouble } from '../parts/ui'
import { counted, span } from '../parts/words'
import type { Keeping } from './draft'
import { bodyWith, countOf } from './keeping'

/** In a few words, whether what is typed is in the draft. */
export function keptWords(k: Keeping, ago: string, silent: number): string {
  if (k.kept) return `kept ${ago}`
  const waits = counted(countOf(k.typed), 'value')
  if (k.theirs) return `${waits} not kept yet`
  switch (k.hold) {
    case 'signed-out':
      return `${waits} kept once you signed in`
    case 'pause':
      return `${waits} waiting for the service`
    case 'person':
    case 'gone':
      return `${waits} not kept`
  }
  if (!k.underway && k.refused) return `${counted(countOf(k.refused), 'value')} not taken`
  return silent >= 3 ? `keeping… no answer for ${span(silent)}` : 'keeping…'
}

/** For how many whole seconds the change that is on its way has had no answer. */
export function useSilence(k: Keeping): number {
  const [silent, setSilent] = useState(0)
  useEffect(() => {
    setSilent(0)
    if (!k.underway) return
    const from = Date.now()
    const timer = setInterval(() => setSilent(Math.floor((Date.now() - from) / 1000)), 1000)
    return () => clearInterval(timer)
  }, [k.underway])
  return silent
}

/** What keeps typed values from being kept, and the ways on; none of them loses a value unasked. */
export function Waiting({ k, template }: { k: Keeping; template: string }) {
  const navigate = useNavigate()
  const anew = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/drafts', { body: bodyWith(k.draft, k.typed) as { stack: string } })),
    onSuccess: (d) => {
      k.tell({ is: 'taken back' })
      void navigate(`/prepare/${encodeURIComponent(template)}?draft=${d.id}`, { replace: true })
    },
  })
  if (k.theirs) {
    return (
      <Note words="This draft was changed elsewhere while you typed. Nothing is lost: choose what stays.">
        <Button onClick={() => k.tell({ is: 'settled', mine: true })}>Lay mine over it</Button>
        <Button onClick={() => k.tell({ is: 'settled', mine: false })}>Take what is there</Button>
      </Note>
    )
  }
  if (!k.trouble) return null
  const waits = counted(countOf(k.typed), 'value')
  switch (k.hold) {
    case 'signed-out':
      return null // it is asked for over the page
    case 'pause':
      return (
        <Note
          words={`${k.trouble.status === 0 ? 'The service does not answer' : `The service could not take it just now: ${k.trouble.title}`}. What you typed (${waits}) waits here, and is sent by itself.`}
        >
          <Button onClick={() => k.tell({ is: 'again' })}>Try now</Button>
        </Note>
      )
    case 'gone':
      return (
        <Note words={`This draft was proposed or removed meanwhile. What you typed last (${waits}) is not in it.`}>
          {anew.isError && <Trouble error={anew.error} />}
          <Button kind="main" onClick={() => anew.mutate()} disabled={anew.isPending}>
            Go on in a new draft
          </Button>
        </Note>
      )
  }
  return (
    <div>
      <Trouble error={new Refusal(k.trouble)} />
      <div className="mt-1.5 flex gap-2">
        <Button small onClick={() => k.tell({ is: 'again' })}>
          Try again
        </Button>
        <Button small onClick={() => k.tell({ is: 'taken back' })}>
          Take back what was not taken
        </Button>
      </div>
    </div>
  )
}

function Note({ words, children }: { words: string; children: ReactNode }) {
  return (
    <div
      role="alert"
      className="flex flex-wrap items-center gap-3 rounded-sheet border border-settling bg-settling-soft px-3.5 py-2"
    >
      <span className="min-w-0 flex-1">{words}</span>
      {children}
    </div>
  )
}
