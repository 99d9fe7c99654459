// Made by `rovett types generate`. Change the catalogue instead, and make it anew.
import type { Live, Notification } from 'rovett';
import type { BackendEvent } from 'rovett/backend';

/** The data of notifications, by type. */
export interface NotificationData {
  /** Engine checks */
  'engine.check.due': {
    checkId?: number;
  };
  /** Finished checks */
  'engine.check.done': unknown;
  /** Engine alarms */
  'engine.alarm': unknown;
  /** Bilge water */
  'bilge.level': unknown;
  /** Alarms that are over */
  'engine.alarm.cleared': unknown;
  /** Delays */
  'sailing.delayed': unknown;
  /** Signatures */
  'document.ready': unknown;
  /** Swaps of watches */
  'crew.swap.asked': unknown;
  /** Weather warnings */
  'weather.warning': unknown;
}

/** The data of events, by type. */
export interface EventData {
  'engine.check.due': {
    id: number;
    vessel: {
      id: string;
      name: string;
    };
    check: string;
    hours: number;
    priority?: 'low' | 'high';
  };
  'sailing.delayed': {
    id: string;
    sailing: string;
    minutes: number;
    crew: string[];
  };
  'document.ready': {
    id: number;
    title: string;
    signer: string;
  };
}

/** Handles notifications of a type, with its data. Ends when the function it returns is called. */
export function on<T extends keyof NotificationData & string>(
  live: Live,
  type: T,
  handler: (notification: Notification<NotificationData[T]>) => unknown,
): () => void {
  return live.on<NotificationData[T]>(type, handler);
}

/** An event of a type, with its data. */
export function eventOf<T extends keyof EventData & string>(
  source: string,
  type: T,
  data: EventData[T],
  more: Partial<BackendEvent> = {},
): BackendEvent {
  return { ...more, source, type, data };
}
