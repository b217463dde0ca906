/** The hub of all tabs of a browser: what each follows comes over one connection. */
import { Hub } from './hub';

/** What a tab says. */
export type ToWorker = { follow: number; topic: string } | { leave: number } | { alive: true } | { bye: true };
/** What it is told. */
export type FromWorker = { of: number; kind: string; data: unknown } | { of: number; up: boolean };

/** After how long without a word a tab counts as gone: one that crashed says no goodbye. */
const GONE = 180_000;

const hub = new Hub((url) => new EventSource(url));

function serve(port: MessagePort): void {
    const stops = new Map<number, () => void>();
    const tell = (message: FromWorker) => port.postMessage(message);
    const end = () => {
        for (const stop of stops.values()) stop();
        stops.clear();
        port.close();
    };
    let timer = setTimeout(end, GONE);
    port.onmessage = ({ data }: MessageEvent<ToWorker>) => {
        clearTimeout(timer);
        if ('bye' in data) return end();
        timer = setTimeout(end, GONE);
        if ('leave' in data) {
            stops.get(data.leave)?.();
            stops.delete(data.leave);
        } else if ('follow' in data) {
            const of = data.follow;
            const stop = hub.follow(
                data.topic,
                (kind, event) => tell({ of, kind, data: event }),
                (up) => tell({ of, up }),
            );
            stops.set(of, stop);
        }
    };
    port.start();
}

(self as unknown as { onconnect: (event: MessageEvent) => void }).onconnect = (event) => {
    const [port] = event.ports;
    if (port) serve(port);
};
