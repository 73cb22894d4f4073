/** All tests of pure functions: `npm run test` builds and runs them in Node.js. */
import './prepare/keeping.test'
