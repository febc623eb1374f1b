import vue from 'eslint-plugin-vue'
import a11y from 'eslint-plugin-vuejs-accessibility'
import ts from 'typescript-eslint'

/** How a template stands on the page is Prettier's. */
const FORMAT = [
  'max-attributes-per-line',
  'singleline-html-element-content-newline',
  'multiline-html-element-content-newline',
  'html-indent',
  'html-closing-bracket-newline',
  'html-self-closing',
]

export default ts.config(
  { ignores: ['dist', 'src/api/schema.d.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  ...a11y.configs['flat/recommended'],
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      // A label stands around its field, or names it.
      'vuejs-accessibility/label-has-for': ['error', { required: { some: ['nesting', 'id'] }, controlComponents: ['ZoneField', 'Filter'] }],
      ...Object.fromEntries(FORMAT.map((name) => [`vue/${name}`, 'off'])),
    },
  },
  {
    files: ['**/*.vue'],
    rules: {
      'no-restricted-syntax': [
        'error',
        { selector: "Property[key.name='queryFn'][value.params.length=0]", message: 'a key and what it asks for stand in the queries of their station' },
      ],
    },
  },
)
