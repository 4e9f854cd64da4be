import java.io.BufferedReader;
import java.io.FileDescriptor;
import java.io.FileOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.InputStreamReader;
import java.io.PrintStream;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse.BodyHandlers;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.Executors;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.ScheduledFuture;
import java.util.concurrent.TimeUnit;
import java.util.function.Consumer;

/**
 * Keeps a correct live copy of a query with the HTTP client of Java 17, through broken connections and restarts.
 *
 * <pre>UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=… java Live.java 'balloons?limit=none'</pre>
 *
 * Prints the copy, the documents by id, as a line of JSON after each event. Sends each line of the standard input, such
 * as {"id":"c-1","writes":[{"merge":"balloons/bl-17","data":{"altitude":420}}]}, as a commit. An app, also in Kotlin,
 * uses {@link #watch} and {@link #commit} from threads of its own.
 */
public final class Live {
    /** The store refuses a request for good: the problem as JSON (RFC 9457). */
    public static final class Refused extends Exception {
        Refused(String problem) {
            super(problem);
        }
    }

    /** After these, the same request can succeed later. All other problems are final. */
    private static final Set<Integer> PASSING = Set.of(408, 429, 500, 502, 503, 504);
    /** A comment comes every 15 s; where nothing comes for longer, the connection is dead. */
    private static final long SILENCE_SECONDS = 40;
    private static final long RETRY_MS = 1000;

    private final HttpClient client = HttpClient.newBuilder().version(HttpClient.Version.HTTP_1_1)
        .connectTimeout(Duration.ofSeconds(10)).build();
    private final ScheduledExecutorService timer = Executors.newSingleThreadScheduledExecutor(task -> {
        var thread = new Thread(task);
        thread.setDaemon(true);
        return thread;
    });
    private final String url;
    private final String key;

    public Live(String url, String key) {
        this.url = url;
        this.key = key;
    }

    public static void main(String[] arguments) throws InterruptedException {
        var live = new Live(System.getenv("UPROAR_URL"), System.getenv("UPROAR_KEY"));
        var sender = new Thread(() -> sendCommits(live));
        sender.setDaemon(true);
        sender.start();
        try {
            var out = new PrintStream(new FileOutputStream(FileDescriptor.out), true, StandardCharsets.UTF_8);
            live.watch(arguments[0], copy -> out.println(Json.write(copy)));
        } catch (Refused refused) {
            System.err.println(refused.getMessage());
            System.exit(1);
        }
    }

    private static void sendCommits(Live live) {
        var lines = new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
        try {
            for (var line = lines.readLine(); line != null; line = lines.readLine()) {
                try {
                    live.commit(line);
                } catch (Refused refused) {
                    System.err.println(refused.getMessage());
                }
            }
        } catch (IOException | InterruptedException error) {
            System.err.println(error);
        }
    }

    /**
     * Calls {@code show} with the documents by id after each event, until the store refuses the watch.
     *
     * @param query a collection with parameters, as in an address
     */
    public void watch(String query, Consumer<Map<String, Object>> show) throws Refused, InterruptedException {
        Map<String, Object> copy = new LinkedHashMap<>();
        String resume = null;
        while (true) {
            var request = request("/v1/data/" + query).header("Accept", "text/event-stream");
            if (resume != null) request.header("Last-Event-ID", resume);
            try (var events = open(request.build())) {
                for (var event = events.next(); event != null; event = events.next()) {
                    if (event.name.equals("end")) {
                        // Two problems pass: the store stops (503), and a token has expired (401).
                        var status = ((Json.Number) Json.members(event.data).get("status")).text();
                        if (!status.equals("503") && !status.equals("401")) throw new Refused(Json.write(event.data));
                    } else if (event.data != null) {
                        if (event.name.equals("change")) Patch.apply(copy, Json.members(event.data).get("patch"));
                        else copy = byId(Json.members(event.data).get("documents"));
                        show.accept(copy);
                    }
                    if (event.id != null) resume = event.id;
                }
            } catch (IOException error) {
                System.err.println(error);
            }
            Thread.sleep(RETRY_MS);
        }
    }

    /**
     * Sends a commit until there is an answer. The store applies a commit with the same id once.
     *
     * @param commit JSON with the members {@code id} and {@code writes}
     */
    public void commit(String commit) throws Refused, InterruptedException {
        var request = request("/v1/commits").header("Content-Type", "application/json").timeout(Duration.ofSeconds(20))
            .POST(HttpRequest.BodyPublishers.ofString(commit)).build();
        while (true) {
            try {
                var response = client.send(request, BodyHandlers.ofString());
                if (response.statusCode() < 400) return;
                if (!PASSING.contains(response.statusCode())) throw new Refused(response.body());
            } catch (IOException error) {
                // There was no answer, so the commit may or may not have been applied.
            }
            Thread.sleep(RETRY_MS);
        }
    }

    private HttpRequest.Builder request(String path) {
        return HttpRequest.newBuilder(URI.create(url + path)).header("Authorization", "Bearer " + key);
    }

    private Events open(HttpRequest request) throws IOException, InterruptedException, Refused {
        var response = client.send(request, BodyHandlers.ofInputStream());
        if (response.statusCode() == 200) return new Events(response.body());
        var problem = new String(response.body().readAllBytes(), StandardCharsets.UTF_8);
        if (PASSING.contains(response.statusCode())) throw new IOException(problem);
        throw new Refused(problem);
    }

    private static Map<String, Object> byId(Object documents) {
        var copy = new LinkedHashMap<String, Object>();
        for (var document : (List<?>) documents) copy.put((String) Json.members(document).get("id"), document);
        return copy;
    }

    /** One event of a stream; {@code data} is null where only the id moves on. */
    private record Event(String name, String id, Object data) {}

    /** The events of a stream (HTML Standard, section 9.2). */
    private final class Events implements AutoCloseable {
        private final BufferedReader lines;
        private final InputStream body;

        Events(InputStream body) {
            this.body = body;
            lines = new BufferedReader(new InputStreamReader(body, StandardCharsets.UTF_8));
        }

        Event next() throws IOException {
            String name = "";
            String id = null;
            Object data = null;
            for (var line = readLine(); line != null; line = readLine()) {
                if (line.startsWith("event: ")) name = line.substring(7);
                else if (line.startsWith("id: ")) id = line.substring(4);
                else if (line.startsWith("data: ")) data = Json.read(line.substring(6));
                else if (line.isEmpty()) return new Event(name, id, data);
            }
            // An event that was not finished does not count.
            return null;
        }

        /** Reads a line; closes the stream if none comes for too long. */
        private String readLine() throws IOException {
            ScheduledFuture<?> end = timer.schedule(this::close, SILENCE_SECONDS, TimeUnit.SECONDS);
            try {
                return lines.readLine();
            } finally {
                end.cancel(false);
            }
        }

        @Override
        public void close() {
            try {
                body.close();
            } catch (IOException error) {
                // It is closed already.
            }
        }
    }

    /** JSON Patch (RFC 6902) with add, remove and replace. */
    static final class Patch {
        static void apply(Map<String, Object> copy, Object patch) {
            for (var operation : (List<?>) patch) {
                var members = Json.members(operation);
                var steps = ((String) members.get("path")).substring(1).split("/", -1);
                Object target = copy;
                for (int n = 0; n < steps.length - 1; n++) target = child(target, name(steps[n]));
                change(target, name(steps[steps.length - 1]), (String) members.get("op"), members.get("value"));
            }
        }

        /** A step of a JSON Pointer (RFC 6901, section 4). */
        private static String name(String step) {
            return step.replace("~1", "/").replace("~0", "~");
        }

        private static Object child(Object target, String name) {
            return target instanceof List<?> list ? list.get(Integer.parseInt(name)) : Json.members(target).get(name);
        }

        @SuppressWarnings("unchecked")
        private static void change(Object target, String name, String op, Object value) {
            if (target instanceof List<?>) {
                var list = (List<Object>) target;
                int index = name.equals("-") ? list.size() : Integer.parseInt(name);
                if (op.equals("add")) list.add(index, value);
                else if (op.equals("remove")) list.remove(index);
                else list.set(index, value);
            } else if (op.equals("remove")) {
                Json.members(target).remove(name);
            } else {
                Json.members(target).put(name, value);
            }
        }
    }

    /** JSON (RFC 8259): objects as maps, arrays as lists, numbers as their text, so that none is rounded. */
    static final class Json {
        record Number(String text) {}

        private final String text;
        private int at;

        private Json(String text) {
            this.text = text;
        }

        static Object read(String text) {
            return new Json(text).value();
        }

        @SuppressWarnings("unchecked")
        static Map<String, Object> members(Object object) {
            return (Map<String, Object>) object;
        }

        private char peek() {
            while (text.charAt(at) <= ' ') at++;
            return text.charAt(at);
        }

        /** Whether a list goes on: skips the bracket, or the comma. */
        private boolean more(char end) {
            if (peek() == end) {
                at++;
                return false;
            }
            if (peek() == ',') at++;
            return true;
        }

        private Object value() {
            switch (peek()) {
                case '{': {
                    var object = new LinkedHashMap<String, Object>();
                    for (at++; more('}');) {
                        peek();
                        var name = string();
                        peek();
                        at++;
                        object.put(name, value());
                    }
                    return object;
                }
                case '[': {
                    var list = new ArrayList<Object>();
                    for (at++; more(']');) list.add(value());
                    return list;
                }
                case '"':
                    return string();
                case 't':
                    at += 4;
                    return true;
                case 'f':
                    at += 5;
                    return false;
                case 'n':
                    at += 4;
                    return null;
                default: {
                    int begin = at;
                    while (at < text.length() && ",]} \n\r\t".indexOf(text.charAt(at)) < 0) at++;
                    return new Number(text.substring(begin, at));
                }
            }
        }

        private String string() {
            var result = new StringBuilder();
            for (at++; text.charAt(at) != '"'; at++) {
                char c = text.charAt(at);
                if (c == '\\') {
                    c = text.charAt(++at);
                    if (c == 'u') {
                        c = (char) Integer.parseInt(text.substring(at + 1, at + 5), 16);
                        at += 4;
                    } else {
                        int place = "bfnrt".indexOf(c);
                        if (place >= 0) c = "\b\f\n\r\t".charAt(place);
                    }
                }
                result.append(c);
            }
            at++;
            return result.toString();
        }

        static String write(Object value) {
            var to = new StringBuilder();
            write(value, to);
            return to.toString();
        }

        private static void write(Object value, StringBuilder to) {
            if (value instanceof Map<?, ?> object) {
                to.append('{');
                for (var member : object.entrySet()) {
                    if (to.charAt(to.length() - 1) != '{') to.append(',');
                    write(member.getKey(), to);
                    to.append(':');
                    write(member.getValue(), to);
                }
                to.append('}');
            } else if (value instanceof List<?> list) {
                to.append('[');
                for (int n = 0; n < list.size(); n++) {
                    if (n > 0) to.append(',');
                    write(list.get(n), to);
                }
                to.append(']');
            } else if (value instanceof String string) {
                to.append('"');
                string.chars().forEach(c -> {
                    if (c == '"' || c == '\\') to.append('\\').append((char) c);
                    else if (c < ' ') to.append(String.format("\\u%04x", c));
                    else to.append((char) c);
                });
                to.append('"');
            } else {
                to.append(value instanceof Number number ? number.text() : String.valueOf(value));
            }
        }
    }
}
