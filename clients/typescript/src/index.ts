export { Inbox, type InboxItem, type InboxPage, type Which } from './inbox.js';
export type { Tried } from './ladder.js';
export { InboxList, type InboxView } from './list.js';
export { connect, Live } from './live.js';
export {
  type Change,
  type Notification,
  type Problem,
  RovettError,
  type Said,
  type Totals,
  type Transport,
} from './messages.js';
export type { Handler, LiveOptions, LiveState } from './options.js';
export type { Person, PresenceView } from './presence.js';
export { tokenFrom } from './token.js';
export type { Readable } from './value.js';
