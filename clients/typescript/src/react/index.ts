'use client';

export { defaultTexts, type Texts } from '../pieces/texts.js';
export {
  RovettProvider,
  useInboxPages,
  useLive,
  useLiveState,
  useNotificationHandler,
  usePresence,
  useTopic,
  useTotals,
  useUnreadTotal,
} from './hooks.js';
export * from './panels.js';
