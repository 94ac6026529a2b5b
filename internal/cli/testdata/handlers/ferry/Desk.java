package ferry;

import com.sun.net.httpserver.HttpExchange;
import java.io.IOException;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.function.Function;

/** Handlers for tests: what a person may write, and what may go wrong. */
public class Desk implements Function<Map<String, Object>, Object> {
  record Ask(String to, int adults, List<Integer> ages) {}

  record Quote(String to, long cents, java.time.Instant at) {}

  interface Context {
    int attempt();
    boolean isLastAttempt();
    double getLeftMs();
    String instance();
    Map<String, String> attributes();
  }

  static Quote quote(Ask ask, Context c) {
    System.out.println("asked " + c.attempt() + " " + c.isLastAttempt() + " " + (c.getLeftMs() > 0) + " " + c.instance());
    return new Quote(ask.to(), 1200L * ask.adults(), java.time.Instant.EPOCH);
  }

  private int asked;

  @Override
  public Object apply(Map<String, Object> request) { return Map.of("asked", ++asked, "path", request.get("path")); }

  public static Object scan(Map<String, Object> event, Context c) {
    Object pass = ((Map<?, ?>) event.get("data")).get("pass");
    if (pass.equals("bad")) throw new IllegalArgumentException("bad pass");
    return List.of(event.get("id"), c.attributes().get("deck"), pass);
  }

  static byte[] raw(byte[] body) { return body; }

  static void nothing() {}

  static CompletableFuture<String> later(Object event) { return CompletableFuture.supplyAsync(() -> "later"); }

  static void page(HttpExchange x) throws IOException {
    x.getResponseHeaders().set("X-Query", x.getRequestURI().getQuery());
    x.sendResponseHeaders(202, 0);
    x.getResponseBody().write((x.getRequestMethod() + " ").getBytes());
    x.getResponseBody().write(x.getRequestBody().readAllBytes());
    x.close();
  }

  static Object noJson(Object event) { return new Object(); }

  static Object leaves(Object event) {
    System.exit(4);
    return null;
  }

  static Object dies(Object event) {
    Runtime.getRuntime().halt(5);
    return null;
  }

  static Object hangs(Object event) throws InterruptedException {
    Thread.sleep(60_000);
    return null;
  }

  static Object deep(Object event) { return deep(event); }

  static void three(int a, int b, int c) {}

  static class Broken {
    static final int TIDE = Integer.parseInt("high");

    static int f(Object event) { return TIDE; }
  }

  static class Needs {
    static Object f(Object event) { return new Gone(); }

    final Gone gone = new Gone();

    Object g(Object event) { return gone; }
  }

  static class Gone {}
}
