// Sends a record by each of OpenTelemetry's exporters for JavaScript, plain and packed, to the address that is given.
import { ROOT_CONTEXT, TraceFlags, trace } from '@opentelemetry/api'
import { OTLPLogExporter as InJSON } from '@opentelemetry/exporter-logs-otlp-http'
import { OTLPLogExporter as InProtobuf } from '@opentelemetry/exporter-logs-otlp-proto'
import { BatchLogRecordProcessor, LoggerProvider } from '@opentelemetry/sdk-logs'

const url = `http://${process.argv[2]}/v1/logs`
const context = trace.setSpanContext(ROOT_CONTEXT, {
  traceId: '5b8efff798038103d269b633813fc60c',
  spanId: 'eee19b7ec3c1b174',
  traceFlags: TraceFlags.SAMPLED,
})
for (const [name, Exporter] of [
  ['JSON', InJSON],
  ['protobuf', InProtobuf],
]) {
  for (const compression of ['none', 'gzip']) {
    const provider = new LoggerProvider({
      processors: [new BatchLogRecordProcessor({ exporter: new Exporter({ url, compression }) })],
    })
    provider.getLogger('peers', '1.2').emit({
      body: `JavaScript in ${name}, ${compression}`,
      severityNumber: 13,
      severityText: 'WARN',
      eventName: 'ship.docked',
      timestamp: new Date('2031-04-02T06:15:09.123Z'),
      context,
      attributes: { lane: 3, open: true, share: 1.5, seats: ['a', 'b'], ship: { name: 'Whimbrel', decks: 2 } },
    })
    await provider.shutdown()
  }
}
