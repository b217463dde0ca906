/**
 * Streams of the server. All that a browser follows, in all its tabs, comes over one connection; where tabs cannot
 * share one, each has one of its own.
 */
import { Hub, type Deliver, type OnState } from './hub';
import type { FromWorker, ToWorker } from './streams.worker';

/** Handlers by the name of the event, each given its data. */
type Handlers = Record<string, (data: never) => void>;

type Follow = (topic: string, deliver: Deliver, onState: OnState) => () => void;

/** How often a tab says that it is still there. */
const ALIVE = 30_000;

function overWorker(): Follow {
    const worker = new SharedWorker(new URL('./streams.worker.ts', import.meta.url), { type: 'module', name: 'pondrix-streams' });
    const followers = new Map<number, { deliver: Deliver; onState: OnState }>();
    const say = (message: ToWorker) => worker.port.postMessage(message);
    let next = 0;
    worker.port.onmessage = ({ data }: MessageEvent<FromWorker>) => {
        const follower = followers.get(data.of);
        if ('up' in data) follower?.onState(data.up);
        else follower?.deliver(data.kind, data.data);
    };
    worker.port.start();
    setInterval(() => say({ alive: true }), ALIVE);
    addEventListener('pagehide', () => say({ bye: true }));
    // A page that comes back from the browser's memory has said goodbye.
    addEventListener('pageshow', ({ persisted }) => persisted && location.reload());
    return (topic, deliver, onState) => {
        const key = next++;
        followers.set(key, { deliver, onState });
        say({ follow: key, topic });
        return () => {
            if (followers.delete(key)) say({ leave: key });
        };
    };
}

function overPage(): Follow {
    const hub = new Hub((url) => new EventSource(url));
    return (topic, deliver, onState) => hub.follow(topic, deliver, onState);
}

let shared: Follow | undefined;
const connection = () => (shared ??= 'SharedWorker' in globalThis ? overWorker() : overPage());

/**
 * Follows a stream (`runs`, `run/PROJECT/NUMBER`, `log/PROJECT/NUMBER/STAGE~JOB`) until the returned function is
 * called. `onState` is told whether the connection stands.
 */
export function follow(topic: string, handlers: Handlers, onState?: (up: boolean) => void): () => void {
    return connection()(
        topic,
        (kind, data) => handlers[kind]?.(data as never),
        (up) => onState?.(up),
    );
}

/** The stream of a run. */
export const runTopic = (project: string, number: number) => `run/${project}/${number}`;
/** The stream of a job's log. */
export const logTopic = (project: string, number: number, job: string) => `log/${project}/${number}/${job.replace('/', '~')}`;
