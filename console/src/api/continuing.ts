import { api, unwrap } from './client'

/**
 * Goes on with what of a stack is missing, as it was accepted. Where to look then: at the new run, at the
 * proposal if it goes beyond what was accepted, or at the stack if nothing is missing.
 */
export async function goOn(stack: string): Promise<string> {
  const proposal = await unwrap(api.POST('/api/v1/stacks/{name}/continue', { params: { path: { name: stack } } }))
  if (proposal.state === 'nothing') return `/stacks/${stack}`
  if (proposal.state !== 'accepted') return `/proposals/${proposal.id}`
  return unwrap(api.POST('/api/v1/proposals/{id}/apply', { params: { path: { id: proposal.id } } })).then(
    (next) => `/runs/${next.id}`,
  )
}
