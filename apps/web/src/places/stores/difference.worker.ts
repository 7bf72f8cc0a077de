import { textDifference } from '@quay/core';

// Two long texts can take a while: compared away from the page.
self.onmessage = (event: MessageEvent<{ before: string; after: string }>) =>
  self.postMessage(textDifference(event.data.before, event.data.after));
