import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;

/** Prints what a URL answers. */
public class Ask {
  public static void main(String[] given) throws Exception {
    var request = HttpRequest.newBuilder(URI.create(given[0])).build();
    System.out.println(HttpClient.newHttpClient().send(request, HttpResponse.BodyHandlers.ofString()).body());
  }
}
