/** What each word for how a figure was got means. */
export const sourceMeaning: Record<string, string> = {
  counted: 'The kernel counts exactly this group.',
  summed: 'Added over processes; what ended between two readings is missing.',
  split: 'A shared amount, divided by a stated key.',
  reported: 'Told by an outside system.',
  unavailable: 'Not available.',
}
