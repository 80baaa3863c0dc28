// The line over which the server tells a page what happens.

/** After an answer that is no stream (a proxy's own, while the server starts), the line is tried again so often. */
export const AGAIN_MS = 5_000;

/** What is heard: by the kind of message, what it tells and the number of the last event. */
export type Heard = Record<string, (told: never, id: number) => void>;

/**
 * Hear the server's events after the one with this number, until the function that is returned is called.
 *
 * The browser itself comes back when a line broke, and never again after an answer that is no stream (HTML, 9.2.3):
 * then it is opened anew, from the last event that was heard. `setUp` is told whether the line is up: it is once the
 * server has said where it begins.
 */
export function hear(after: number, heard: Heard, setUp: (up: boolean) => void): () => void {
  let last = after;
  let source: EventSource;
  let again: number | undefined;
  const open = () => {
    source = new EventSource(`/api/v1/events?after=${last}`);
    for (const [kind, act] of Object.entries(heard))
      source.addEventListener(kind, (event: MessageEvent<string>) => {
        last = Number(event.lastEventId) || last;
        act(JSON.parse(event.data) as never, last);
      });
    source.addEventListener("begun", () => setUp(true));
    source.addEventListener("error", () => {
      setUp(false);
      if (source.readyState === EventSource.CLOSED) again = window.setTimeout(open, AGAIN_MS);
    });
  };
  open();
  return () => {
    window.clearTimeout(again);
    source.close();
  };
}
