/**
 * Whether an answer says nothing about what was asked: the service is away (0), too slow, too busy or broken just
 * now.
 */
export const passing = (status: number): boolean =>
  status === 0 || status === 408 || status === 425 || status === 429 || status >= 500
