import { toJsonSchema } from '@valibot/to-json-schema'
import { problems, ProblemBody, routes, type RouteShape } from '@spoor/contract'
import type { GenericSchema } from 'valibot'

const json = (schema: GenericSchema, typeMode: 'input' | 'output') =>
  toJsonSchema(schema, { typeMode, errorMode: 'ignore' })

/** The API as OpenAPI 3.1, made from the contract. */
export function openApi(): object {
  const paths: Record<string, Record<string, object>> = {}
  for (const [operationId, shape] of Object.entries<RouteShape>(routes)) {
    const path = shape.path.replace(/:(\w+)/g, '{$1}')
    paths[path] = { ...paths[path], [shape.method.toLowerCase()]: operation(operationId, shape) }
  }
  return {
    openapi: '3.1.0',
    info: { title: 'Spoor', version: '1', description: 'Field-level change tracking: the interface’s own API.' },
    servers: [{ url: '/api/v1' }],
    paths,
    components: {
      schemas: { Problem: json(ProblemBody, 'output') },
      securitySchemes: { session: { type: 'apiKey', in: 'cookie', name: 'spoor.session' } },
    },
  }
}

function operation(operationId: string, shape: RouteShape): object {
  const parameters = [
    ...properties(shape.params).map((name) => ({ name, in: 'path', required: true, schema: { type: 'string' } })),
    ...properties(shape.query).map((name) => ({ name, in: 'query', schema: { type: 'string' } })),
  ]
  return {
    operationId,
    summary: shape.summary,
    ...(shape.needs === 'nobody' ? { security: [] } : { security: [{ session: [] }], 'x-needs': shape.needs }),
    parameters,
    ...(shape.body
      ? { requestBody: { required: true, content: { 'application/json': { schema: json(shape.body, 'input') } } } }
      : {}),
    responses: {
      200: {
        description: 'Done',
        ...(shape.response ? { content: { 'application/json': { schema: json(shape.response, 'output') } } } : {}),
      },
      default: {
        description: `A problem: ${Object.keys(problems).join(', ')}`,
        content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } },
      },
    },
  }
}

function properties(schema: GenericSchema | undefined): string[] {
  const entries = (schema as { entries?: Record<string, unknown> } | undefined)?.entries
  return entries ? Object.keys(entries) : []
}
