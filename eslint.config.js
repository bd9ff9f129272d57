import js from '@eslint/js';
import globals from 'globals';

export default [
  js.configs.recommended,
  {
    files: ['src/urst/web/static/js/**/*.js'],
    languageOptions: { ecmaVersion: 'latest', sourceType: 'module', globals: { ...globals.browser } },
    rules: {
      complexity: ['error', 15],
      curly: ['error', 'multi-line'],
      eqeqeq: 'error',
      'max-lines': ['error', 500],
      'no-shadow': 'error',
      'no-var': 'error',
      'object-shorthand': 'error',
      'prefer-const': ['error', { destructuring: 'all' }],
      'prefer-template': 'error',
    },
  },
];
