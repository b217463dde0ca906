/** Streams of the server. The browser connects again by itself and resumes after the last event. */

/** Handlers by the name of the event, each given the parsed data. */
type Handlers = Record<string, (data: never) => void>;

/**
 * Follows a stream until the returned function is called, or a handler's event named in `last` came.
 * `onState` is told whether the connection stands.
 */
export function follow(path: string, handlers: Handlers, last?: string, onState?: (up: boolean) => void): () => void {
    const source = new EventSource(path);
    source.onopen = () => onState?.(true);
    source.onerror = () => onState?.(false);
    for (const [name, handle] of Object.entries(handlers)) {
        source.addEventListener(name, (event) => {
            handle(JSON.parse((event as MessageEvent<string>).data) as never);
            if (name === last) source.close();
        });
    }
    return () => source.close();
}
