import 'swagger-ui-dist/swagger-ui.css';
import './reference.css';
import { useEffect, useRef } from 'react';
import SwaggerUI from 'swagger-ui-dist/swagger-ui-es-bundle.js';
import type { Viewer as Eyes } from '../../api/client';
import { asViewer, fromViewer } from './requests';

/** Shows a description, and sends requests from it. */
export function Viewer({ spec, viewer }: { spec: object; viewer: Eyes }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (place.current)
      SwaggerUI({
        spec,
        domNode: place.current,
        docExpansion: 'list',
        defaultModelsExpandDepth: 0,
        deepLinking: false,
        tryItOutEnabled: true,
        // As it is sent by the caller, and not by this page for them.
        showMutatedRequest: false,
        validatorUrl: null,
        requestInterceptor: (request) => asViewer(request, viewer),
        responseInterceptor: fromViewer,
      });
  }, [spec, viewer]);
  return <div ref={place} className="reference" />;
}
