/** The pieces' texts; each can be given in another language. */
export const defaultTexts = {
  bell: 'Notifications, {unread} unread',
  unknown: 'unknown',
  inbox: 'Notifications',
  unread: '{unread} unread',
  isUnread: 'unread',
  empty: 'No notifications yet.',
  loading: 'Loading …',
  failed: 'The notifications can’t be read now.',
  refused: 'The sign-in has ended.',
  again: 'Try again',
  more: 'Load older',
  newer: '{count} new',
  markRead: 'Mark read',
  markUnread: 'Mark unread',
  markAllRead: 'Mark all read',
  take: 'Take',
  release: 'Release',
  taken: 'You have it',
  tooLate: 'Somebody else was quicker.',
  live: 'Live over {transport}',
  catchingUp: 'Catching up',
  connecting: 'Connecting …',
  offline: 'Offline since {time}. Trying again by itself.',
  now: 'Try now',
  choices: 'Choices',
  back: 'Back',
  toasts: 'New notifications',
  dismiss: 'Dismiss',
  others: 'and {count} more',
  mutes: 'Muted',
  noMutes: 'Nothing is muted.',
  unmute: 'Unmute',
};

export type Texts = typeof defaultTexts;

/** A text with what belongs into it. */
export const fillIn = (text: string, values: Record<string, string | number>): string =>
  text.replace(/\{(\w+)\}/g, (whole, name) => `${values[name] ?? whole}`);
