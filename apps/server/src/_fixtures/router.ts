import { APP_PAGES } from '@quay/contract';
import type { TestOffice } from './office.js';

interface Layer {
  route?: { path: string; methods: Record<string, boolean> };
}

/** Every route of the running router, as "GET /api/folders/:id". */
export function routesOf(office: TestOffice): string[] {
  const { router } = office.app.getHttpAdapter().getInstance() as { router: { stack: Layer[] } };
  return router.stack.flatMap(({ route }) =>
    route ? Object.keys(route.methods).map((method) => `${method.toUpperCase()} ${route.path}`) : [],
  );
}

/**
 * Pages of the web application and of the API: documents that are the same for everybody, and hold nothing of the
 * office.
 */
export const isPage = (route: string): boolean =>
  /^GET \/api\/docs/.test(route) || APP_PAGES.some((path) => route === `GET ${path}`);
