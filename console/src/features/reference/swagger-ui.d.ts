declare module 'swagger-ui-dist/swagger-ui-es-bundle.js' {
  import type { SentRequest, ShownAnswer } from './requests';

  /** What of the viewer's options is used here. */
  interface Options {
    spec: object;
    domNode: HTMLElement;
    docExpansion: 'list' | 'full' | 'none';
    defaultModelsExpandDepth: number;
    deepLinking: boolean;
    tryItOutEnabled: boolean;
    showMutatedRequest: boolean;
    validatorUrl: null;
    requestInterceptor: (request: SentRequest) => SentRequest;
    responseInterceptor: (answer: ShownAnswer) => ShownAnswer;
  }

  export default function SwaggerUI(options: Options): unknown;
}
