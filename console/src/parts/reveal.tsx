import { useMutation } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { Field, PanelForm } from './form'
import { Button } from './ui'

/** Asks for the reason, then shows a value until it is closed. It is kept nowhere here. */
export function Reveal({
  what,
  asked,
  trigger,
}: {
  what: string
  asked: Omit<Schemas['RevealRequest'], 'reason'>
  trigger: ReactNode
}) {
  const reveal = useMutation({
    mutationFn: (reason: string) => unwrap(api.POST('/api/v1/reveal', { body: { ...asked, reason } })),
    gcTime: 0,
  })
  const [copied, setCopied] = useState(false)
  return (
    <PanelForm
      title={`Reveal ${what}`}
      trigger={trigger}
      about="Who read it, when and why stays in the audit."
      submit="Reveal it"
      values={{ reason: '' }}
      sending={{
        ...reveal,
        reset: () => {
          reveal.reset()
          setCopied(false)
        },
      }}
      onSend={(v) => reveal.mutate(v.reason)}
      shown={
        reveal.data &&
        ((close) => (
          <>
            <pre className="mt-2 max-h-[40vh] overflow-auto rounded-[6px] border border-line bg-paper p-2.5 font-mono text-small break-all whitespace-pre-wrap">
              {reveal.data.value}
            </pre>
            <div className="mt-4 flex justify-end gap-2">
              <Button
                onClick={() => void navigator.clipboard?.writeText(reveal.data.value).then(() => setCopied(true))}
              >
                {copied ? 'Copied' : 'Copy'}
              </Button>
              <Button kind="main" onClick={close}>
                Hide it
              </Button>
            </div>
          </>
        ))
      }
    >
      <Field label="What it is needed for" name="reason" required />
    </PanelForm>
  )
}
