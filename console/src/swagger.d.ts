declare module 'swagger-ui-dist/swagger-ui-es-bundle.js' {
  const SwaggerUI: { (options: object): void; presets: { apis: unknown } };
  export default SwaggerUI;
}
declare module '*.css';
