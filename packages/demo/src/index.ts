export { startDemo, type DemoOptions, type RunningDemo } from './main.ts'
export { demoPeople } from './people.ts'
