// Small Pantry for Swift, over the framework that `gomobile bind -target ios` makes of package
// mobile: keys, values that are read without waiting, writes that are awaited, changes as
// streams, errors with a code and a sentence.
//
// NOT COMPILED: this was written from the Objective-C headers that gobind makes. A test checks the names
// that it uses against them; no Swift compiler has read it yet. The layer for Kotlin beside it, of the
// same shape, is run in tests.
//
//     enum Units: String, CaseIterable { case metric, imperial }
//
//     final class Settings: Declared {
//         let reminderHour = Key.int("reminder-hour", 18, in: 0...23)
//         let units = Key.choice("units", Units.metric)
//         let beds = Key.list("beds", of: .text, keep: 20)
//     }
//     let settings = Settings()
//     let pantry = try await Pantry.open(directory, "plotbook", settings)
//     let hour = try pantry[settings.reminderHour]
//     label.text = String(hour.value)
//     try await hour.set(7)                               // returns when it is on disk
//     for await now in hour.changes { label.text = String(now) }

import Combine
import Foundation
import Mobile

/// What went wrong: a code for the program, as package mobile has them, and a sentence for the user.
public struct PantryError: LocalizedError {
    public let code: String
    public let sentence: String
    public var errorDescription: String? { sentence }

    init(_ message: String) {
        let code = MobileCode(message)
        self.code = code.isEmpty ? "failed" : code
        sentence = MobileSentence(message)
    }
}

/// Runs a call of the library. Its errors become PantryErrors.
func calling<T>(_ f: () throws -> T) throws -> T {
    do { return try f() } catch let known as PantryError { throw known } catch { throw PantryError((error as NSError).localizedDescription) }
}

/// Calls a function that returns its error beside a text, which Swift does not throw by itself.
func thrown<T>(_ f: (NSErrorPointer) -> T) throws -> T {
    var error: NSError?
    let x = f(&error)
    if let error { throw error }
    return x
}

/// Empty bytes arrive as nil, which Swift takes for an error without a cause.
func some(_ f: () throws -> Data) throws -> Data {
    do { return try f() } catch where (error as NSError).domain == "Foundation._GenericObjCError" { return Data() }
}

func millis(_ seconds: TimeInterval) -> Int64 { Int64((seconds * 1000).rounded()) }
func seconds(_ millis: Int64) -> TimeInterval { Double(millis) / 1000 }
func moment(_ millis: Int64) -> Date { Date(timeIntervalSince1970: seconds(millis)) }

func strings(_ t: MobileTexts) throws -> [String] {
    try (0..<t.len()).map { i in try thrown { t.at(i, error: $0) } }
}

/// Runs tasks of the library on its own thread: a stream takes values from there.
final class Here: NSObject, MobileRunnerProtocol {
    func post(_ t: MobileTask?) { t?.run() }
}

final class Handler: NSObject, MobileHandlerProtocol {
    private let f: () -> Void
    init(_ f: @escaping () -> Void) { self.f = f }
    func changed() { f() }
}

private let writing = DispatchQueue(label: "pantry")

/// Runs a call off the thread that draws. Writes run one after the other.
func written<T>(on queue: DispatchQueue = writing, _ f: @escaping () throws -> T) async throws -> T {
    try await withCheckedThrowingContinuation { (c: CheckedContinuation<T, Error>) in
        queue.async { c.resume(with: Result { try calling(f) }) }
    }
}

/// A stream of what now returns: at once, and after each change. A slow consumer skips values.
func stream<T>(_ watch: @escaping (MobileRunnerProtocol, MobileHandlerProtocol) throws -> MobileWatching, _ now: @escaping () throws -> T) -> AsyncStream<T> {
    AsyncStream(bufferingPolicy: .bufferingNewest(1)) { c in
        let watching = try? watch(Here(), Handler { if let x = try? now() { c.yield(x) } })
        c.onTermination = { _ in watching?.stop() }
    }
}

/// What a SwiftUI view observes: a value that is updated on the main thread.
@MainActor public final class Observed<T>: ObservableObject {
    @Published public private(set) var value: T
    private var task: Task<Void, Never>?

    init(_ first: T, _ changes: AsyncStream<T>) {
        value = first
        task = Task { [weak self] in
            for await now in changes { self?.value = now }
        }
    }

    deinit { task?.cancel() }
}

/// A key's variable on this device. It can be used by several threads at once.
public struct Variable<T> {
    let key: Key<T>
    let port: Port<T>
    let start: T

    /// What is stored, or else the default. It does not wait.
    public var value: T { (try? port.get()) ?? start }

    /// Stores a value: when it returns, it is on disk.
    public func set(_ x: T) async throws { try await written { try port.set(x) } }

    /// Stores a value if nothing is stored.
    public func seed(_ x: T) async throws { try await written { try port.seed(x) } }

    /// Removes what is stored.
    public func clear() async throws { try await written(port.clear) }

    /// The value now, and the newest after each change, by any process.
    public var changes: AsyncStream<T> { stream(port.watch, port.get) }

    /// The same for a SwiftUI view.
    @MainActor public func observed() -> Observed<T> { Observed(value, changes) }
}

extension Variable where T: Numeric {
    /// Adds a number, so that concurrent additions all count, and returns the sum.
    public func add(_ n: T) async throws -> T { try await written { try port.add!(n) } }
}

extension Variable {
    /// Appends items at the end. With unique, items that the list has are left out.
    public func append<E>(_ some: E..., unique: Bool = false) async throws where T == [E] {
        try await written { try port.list!.append(try key.form().into(some) as? MobileItems, unique: unique) }
    }

    /// Removes the first item that equals each of some. With all, every equal item.
    public func remove<E>(_ some: E..., all: Bool = false) async throws where T == [E] {
        try await written { try port.list!.remove(try key.form().into(some) as? MobileItems, all: all) }
    }
}

/// A commit that is being made.
public final class Commit: NSObject, MobileChangeProtocol {
    private let f: (Commit) throws -> Void
    var batch: MobileBatch?

    init(_ f: @escaping (Commit) throws -> Void) { self.f = f }

    public func apply(_ b: MobileBatch?) throws {
        batch = b
        defer { batch = nil }
        try f(self)
    }

    func current() throws -> MobileBatch {
        guard let batch else { throw PantryError("misuse: the commit is over") }
        return batch
    }

    public func get<T>(_ key: Key<T>) throws -> T { try calling { try key.form().within(current()).get() } }
    public func set<T>(_ key: Key<T>, _ x: T) throws { try calling { try key.form().within(current()).set(x) } }
}

/// An open namespace: the entries of one app, in one file.
public final class Pantry {
    let ns: MobileNamespace

    private init(_ ns: MobileNamespace) { self.ns = ns }

    /// Opens a namespace in a directory of the app, off the thread of the caller. seal is a secret of 32 bytes
    /// from the keychain.
    public static func open(_ directory: String, _ name: String, _ declared: Declared, seal: Data? = nil) async throws -> Pantry {
        try await written {
            let options = MobileNewOptions()!
            if let seal { _ = options.seal(seal) }
            return Pantry(try thrown { MobileOpen(directory, name, declared.library(), options, $0)! })
        }
    }

    public subscript<T>(_ key: Key<T>) -> Variable<T> {
        get throws {
            try calling {
                let port = try key.form().bind(ns)
                return Variable(key: key, port: port, start: try port.get())
            }
        }
    }

    /// Makes all changes, or none: what f throws is thrown, and nothing is stored.
    public func commit(_ f: @escaping (Commit) throws -> Void) async throws { try await written { try self.ns.commit(Commit(f)) } }

    /// Removes every entry, declared or not, and erases them from the file.
    public func reset() async throws { try await written { try self.ns.reset() } }

    public func close() throws { try calling { try ns.close() } }
}
