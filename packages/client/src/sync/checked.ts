import type {
  AppliedRequest,
  AppliedResponse,
  LiveMessage,
  PulledPage,
  PullRequest,
  QueryRequest,
  QueryResponse,
  TrashRequest,
  TrashResponse,
  WaitRequest,
} from '@koinon/core';
import {
  checkAppliedResponse,
  checkLiveMessage,
  checkPulledPage,
  checkQueryResponse,
  checkTrashResponse,
  checkWaitResponse,
} from '@koinon/core/internal';
import type { LiveChannel, LiveListener, Transport } from './transport.ts';

/** A way to a server on which everything that comes was looked at. The answer to a push is looked at beside what was sent. */
export interface CheckedTransport extends Pick<Transport, 'push' | 'forgetToken'> {
  readonly bytes: Transport['bytes'] | undefined;
  pull(request: PullRequest, signal?: AbortSignal): Promise<PulledPage>;
  readonly applied: ((request: AppliedRequest, signal?: AbortSignal) => Promise<AppliedResponse>) | undefined;
  readonly trash: ((request: TrashRequest, signal?: AbortSignal) => Promise<TrashResponse>) | undefined;
  readonly query: ((request: QueryRequest, signal?: AbortSignal) => Promise<QueryResponse>) | undefined;
  readonly live: ((listener: LiveListener) => LiveChannel) | undefined;
  readonly wait: ((request: WaitRequest, signal?: AbortSignal) => Promise<boolean>) | undefined;
}

/** Looks at everything that comes from a server, whichever way it comes. */
export function checked(transport: Transport): CheckedTransport {
  return {
    push: (body, signal) => transport.push(body, signal),
    forgetToken: () => transport.forgetToken?.(),
    get bytes() {
      return transport.bytes;
    },
    pull: async (request, signal) => checkPulledPage(await transport.pull(request, signal)),
    applied:
      transport.applied &&
      (async (request, signal) => checkAppliedResponse(await transport.applied?.(request, signal))),
    trash: transport.trash && (async (request, signal) => checkTrashResponse(await transport.trash?.(request, signal))),
    query: transport.query && (async (request, signal) => checkQueryResponse(await transport.query?.(request, signal))),
    wait:
      transport.wait && (async (request, signal) => checkWaitResponse(await transport.wait?.(request, signal)).moved),
    live:
      transport.live &&
      ((listener) => {
        let isOver = false;
        const end = () => {
          if (isOver) return;
          isOver = true;
          listener.closed();
        };
        const channel = transport.live?.({
          open: () => listener.open(),
          closed: end,
          message: (said) => {
            if (isOver) return;
            let message: LiveMessage;
            try {
              message = checkLiveMessage(said);
            } catch {
              // Something else than a Koinon server, or one with a fault: as good as no connection.
              channel?.close();
              end();
              return;
            }
            listener.message(message);
          },
        });
        return channel as LiveChannel;
      }),
  };
}
