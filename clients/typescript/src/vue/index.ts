export { choicesTexts } from '../pieces/choices-texts.js';
export { defaultTexts, type Texts } from '../pieces/texts.js';
export {
  provideLive,
  RovettProvider,
  useChoices,
  useInboxPages,
  useLive,
  useLiveState,
  useNotificationHandler,
  usePresence,
  useTopic,
  useTotals,
  useUnreadTotal,
} from './composables.js';
export * from './panels.js';
