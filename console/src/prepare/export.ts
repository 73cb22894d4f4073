import type { Draft } from './draft'

/** The inputs of a draft as a file that the command line takes: YAML, whose flow style is JSON. */
export function inputsFile(d: Draft): string {
  const inputs = Object.entries((d.body.inputs as Record<string, unknown> | undefined) ?? {})
  const head = `# Inputs of ${d.body.stack || 'a stack'} for ${d.body.template ?? 'its template'}\n`
  return (
    head + (inputs.length > 0 ? inputs.map(([name, value]) => `${name}: ${JSON.stringify(value)}\n`).join('') : '{}\n')
  )
}

export const inputsName = (d: Draft) => `${d.body.stack || 'stack'}.inputs.yaml`

/** The command that proposes the same, with the inputs file beside it. */
export function command(d: Draft): string {
  const b = d.body
  const parts = ['undersail', 'propose', b.stack || 'NAME']
  if (b.template || b.source) parts.push('--template', b.template ?? b.file ?? 'template.sail.yaml') // a text of one's own lies beside it
  if (b.account) parts.push('--account', b.account)
  if (b.region) parts.push('--region', b.region)
  if (b.preset) parts.push('--preset', b.preset)
  if (Object.keys((b.inputs as object | undefined) ?? {}).length > 0) parts.push('--inputs', inputsName(d))
  return parts.join(' ')
}

/** Gives a text to the reader as a file. */
export function download(name: string, text: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'text/plain' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
