/** The days of the week, 1 for Monday. */
export const weekdays = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'].map((label, at) => ({ value: at + 1, label }))
