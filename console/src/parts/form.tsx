import { useId, useState, type ReactNode } from 'react'
import { Dialog } from 'radix-ui'
import { FormProvider, useForm, useFormContext, useWatch, type DefaultValues, type FieldValues } from 'react-hook-form'
import { Button, Confirmed, Trouble } from './ui'

/** How everything looks that is typed into. */
export const box = 'rounded-[6px] border border-line bg-paper px-2.5 py-1.5'

/** A dialog with a form in it; what was typed goes when it closes. */
export function Panel({
  title,
  trigger,
  children,
  reset,
  filled,
}: {
  title: string
  trigger: ReactNode
  children: (close: () => void) => ReactNode
  reset?: () => void
  filled?: () => boolean
}) {
  const [open, setOpen] = useState(false)
  const [asks, setAsks] = useState(false)
  const change = (next: boolean) => {
    setAsks(false)
    if (!next) reset?.()
    setOpen(next)
  }
  // A key or a click beside it throws nothing away that was typed; that takes a word.
  const leave = (next: boolean) => {
    if (!next && filled?.()) setAsks(true)
    else change(next)
  }
  return (
    <Dialog.Root open={open} onOpenChange={leave}>
      <Dialog.Trigger asChild>{typeof trigger === 'string' ? <Button>{trigger}</Button> : trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 max-h-[90vh] w-[min(92vw,480px)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-sheet border border-line bg-sheet p-5 text-ink"
        >
          <Dialog.Title className="mb-1.5 text-large font-semibold">{title}</Dialog.Title>
          {children(() => change(false))}
          <Confirmed
            open={asks}
            title="Throw away what you typed?"
            stay="Go on typing"
            onClose={() => setAsks(false)}
            action={
              <Button kind="danger" onClick={() => change(false)}>
                Throw it away
              </Button>
            }
          >
            It has not been sent.
          </Confirmed>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

/**
 * A dialog with lines to fill in and one thing that it does. What is missing is said at its line, what the
 * service refuses below them; neither takes away what was typed.
 */
export function PanelForm<T extends FieldValues>({
  title,
  trigger,
  about,
  values,
  submit,
  sending,
  onSend,
  shown,
  children,
}: {
  title: string
  trigger: ReactNode
  about: string
  values: DefaultValues<T>
  submit: string
  sending: { isPending: boolean; error: unknown; reset: () => void }
  onSend: (values: T, close: () => void) => void
  /** What stands in the place of the form once there is something to show. */
  shown?: (close: () => void) => ReactNode
  children: ReactNode
}) {
  const form = useForm<T>({ defaultValues: values })
  const { isDirty } = form.formState
  return (
    <Panel
      title={title}
      trigger={trigger}
      filled={() => isDirty}
      reset={() => {
        sending.reset()
        form.reset()
      }}
    >
      {(close) =>
        shown?.(close) ?? (
          <FormProvider {...form}>
            <form noValidate onSubmit={(e) => void form.handleSubmit((v) => onSend(v, close))(e)}>
              <p className="text-ink-2">{about}</p>
              {children}
              {sending.error !== null && (
                <div className="mt-3">
                  <Trouble error={sending.error} />
                </div>
              )}
              <div className="mt-4 flex justify-end gap-2">
                <Button onClick={close}>Cancel</Button>
                <Button type="submit" kind="main" disabled={sending.isPending}>
                  {submit}
                </Button>
              </div>
            </form>
          </FormProvider>
        )
      }
    </Panel>
  )
}

/** One line to fill in. A secret one is not shown and remembered nowhere. */
export function Field({
  label,
  name,
  note,
  secret,
  required,
  choices,
}: {
  label: string
  name: string
  note?: string
  secret?: boolean
  required?: boolean
  choices?: [string, string][]
}) {
  const id = useId()
  const { register, formState } = useFormContext()
  const wrong = formState.errors[name]?.message
  const given = {
    id,
    ...register(
      name,
      required ? { validate: (v: string) => v.trim() !== '' || `fill in: ${label.toLowerCase()}` } : {},
    ),
    className: `mt-0.5 w-full ${box}`,
  }
  return (
    <div className="mt-3">
      <label htmlFor={id} className="block text-small font-semibold">
        {label}
      </label>
      {choices ? (
        <select {...given}>
          {choices.map(([v, word]) => (
            <option key={v} value={v}>
              {word}
            </option>
          ))}
        </select>
      ) : (
        <input
          {...given}
          type={secret ? 'password' : 'text'}
          autoComplete={secret ? 'new-password' : 'off'}
          spellCheck={false}
          aria-required={required}
          aria-invalid={!!wrong}
          aria-describedby={wrong || note ? `${id}-note` : undefined}
        />
      )}
      {(wrong || note) && (
        <p
          id={`${id}-note`}
          role={wrong ? 'alert' : undefined}
          className={`mt-0.5 text-small ${wrong ? 'text-bad' : 'text-ink-2'}`}
        >
          {wrong ? String(wrong) : note}
        </p>
      )}
    </div>
  )
}

/** Lines that are asked only while another has a value. */
export function Only({ when, is, children }: { when: string; is: string; children: ReactNode }) {
  return useWatch({ name: when }) === is ? children : null
}
