import 'swagger-ui-dist/swagger-ui.css';
import './reference.css';
import SwaggerUI from 'swagger-ui-dist/swagger-ui-es-bundle.js';

const dark = matchMedia('(prefers-color-scheme: dark)');
const paint = () => document.documentElement.classList.toggle('dark-mode', dark.matches);
paint();
dark.addEventListener('change', paint);

SwaggerUI({
  url: '/v1/openapi.json',
  dom_id: '#reference',
  deepLinking: true,
  docExpansion: 'list',
  defaultModelsExpandDepth: 0,
  displayOperationId: false,
  filter: true,
  presets: [SwaggerUI.presets.apis],
});
