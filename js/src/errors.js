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

/** Reports whether a failed call may have been done: the server did not refuse to look at it. */
export const mayBeDone = e => !['unavailable', 'rate-limited'].includes(e.code)
