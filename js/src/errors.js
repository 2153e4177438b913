/** What went wrong: code for the program, message for people. */
export class BoardError extends Error {
  constructor(code, sentence, more) {
    super(sentence)
    Object.assign(this, { name: 'BoardError', code }, more)
  }
}

export const invalid = sentence => new BoardError('invalid', sentence)

/** Reports whether a write may or may not have arrived, so that it can be sent again under its key. */
export const unsure = e => ['unreachable', 'unavailable', 'rate-limited', 'uncertain', 'unexpected'].includes(e?.code)

/** Reports whether a failed write may have been done. */
export const mayBeDone = e => ['unreachable', 'uncertain', 'unexpected'].includes(e.code)

/**
 * Returns the error of a write that an earlier attempt may have done. A server that refuses to look
 * at the last attempt says nothing about the earlier one.
 */
export const afterMaybe = e => ['unavailable', 'rate-limited', 'unauthorized', 'forbidden', 'no-board'].includes(e.code)
  ? new BoardError('uncertain', `an earlier attempt was not answered and may have been stored, and a later one was refused: ${e.message}`, { ...e, code: 'uncertain' })
  : e
