declare module "@novnc/novnc" {
  /** A viewer of a screen that is reached by a WebSocket. */
  export default class RFB extends EventTarget {
    constructor(target: HTMLElement, socket: string | WebSocket, options?: { shared?: boolean });
    scaleViewport: boolean;
    background: string;
    disconnect(): void;
    focus(options?: FocusOptions): void;
  }
}
