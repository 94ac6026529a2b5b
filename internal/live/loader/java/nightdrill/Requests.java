package nightdrill;

import com.sun.net.httpserver.Headers;
import com.sun.net.httpserver.HttpContext;
import com.sun.net.httpserver.HttpExchange;
import com.sun.net.httpserver.HttpPrincipal;
import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.InetSocketAddress;
import java.net.URI;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/** A request for a handler that takes an HttpExchange. */
final class Requests extends HttpExchange {
  private final Map<?, ?> request;
  private final Headers asked = new Headers();
  private final Headers answered = new Headers();
  private final Map<String, Object> attributes = new HashMap<>();
  private InputStream in;
  private final ByteArrayOutputStream written = new ByteArrayOutputStream();
  private OutputStream out = written;
  private int status = -1;

  Requests(Map<?, ?> request, byte[] body) {
    this.request = request;
    for (Object h : (List<?>) request.get("headers")) asked.add((String) ((List<?>) h).get(0), (String) ((List<?>) h).get(1));
    in = new ByteArrayInputStream(body);
  }

  byte[] reply(Map<String, Object> head) {
    if (status < 0) throw new Json.Wrong("it sent no response: sendResponseHeaders was not called");
    List<Object> all = new ArrayList<>();
    for (Map.Entry<String, List<String>> h : answered.entrySet()) {
      for (String v : h.getValue()) all.add(List.of(h.getKey(), v));
    }
    head.put("status", status);
    head.put("headers", all);
    return written.toByteArray();
  }

  @Override public Headers getRequestHeaders() { return asked; }
  @Override public Headers getResponseHeaders() { return answered; }
  @Override public URI getRequestURI() { return URI.create((String) request.get("target")); }
  @Override public String getRequestMethod() { return (String) request.get("method"); }
  @Override public HttpContext getHttpContext() { throw new UnsupportedOperationException("there is no HttpContext"); }
  @Override public void close() {}
  @Override public InputStream getRequestBody() { return in; }
  @Override public OutputStream getResponseBody() { return out; }
  @Override public void sendResponseHeaders(int code, long length) { status = code; }
  @Override public InetSocketAddress getRemoteAddress() { return InetSocketAddress.createUnresolved("127.0.0.1", 0); }
  @Override public InetSocketAddress getLocalAddress() { return InetSocketAddress.createUnresolved("127.0.0.1", 80); }
  @Override public int getResponseCode() { return status; }
  @Override public String getProtocol() { return "HTTP/1.1"; }
  @Override public Object getAttribute(String name) { return attributes.get(name); }
  @Override public void setAttribute(String name, Object value) { attributes.put(name, value); }
  @Override public void setStreams(InputStream i, OutputStream o) {
    if (i != null) in = i;
    if (o != null) out = o;
  }
  @Override public HttpPrincipal getPrincipal() { return null; }
}
