// An app in Objective-C, by the headers that gobind makes. It is read by a compiler and not
// run: this shows that the headers hold together, and that the calls below are there as written.
@import Foundation;
#include "Mobile.objc.h"
#include "Boards.objc.h"

@interface Screen : NSObject <MobileRunner, MobileHandler, MobileProblemHandler, MobileChange>
@end

@implementation Screen {
  MobileIntVar *hour;
  MobileIntKey *reminderHour;
}

- (void)post:(MobileTask *)t {
  [t run];
}

- (void)changed {
  int64_t now;
  NSError *error;
  if (![hour get:&now error:&error]) [self problem:@"reminder-hour" what:error.localizedDescription];
}

- (void)problem:(NSString *)name what:(NSString *)what {
  MobileCode(what);
  MobileSentence(what);
}

- (BOOL)apply:(MobileBatch *)b error:(NSError **)error {
  return [[reminderHour in_:b error:error] set:7 error:error];
}

- (BOOL)open:(NSString *)dir seal:(NSData *)bytes error:(NSError **)error {
  MobileKeys *keys = MobileNewKeys();
  reminderHour = [[keys intKey:@"reminder-hour" def:18] between:0 hi:23];
  MobileTextKey *units = [keys choiceKey:@"units" options:[[MobileNewTexts() add:@"metric"] add:@"imperial"]];
  MobileRecordsKey *plantings = [keys recordsKey:@"plantings"];
  MobileNamespace *ns = MobileOpen(dir, @"plotbook", keys, [[MobileNewOptions() seal:bytes] onProblem:self h:self], error);
  hour = [reminderHour bind:ns error:error];
  MobileWatching *watching = [hour watch:self changed:self error:error];
  if (watching == nil || ![hour set:7 error:error] || ![ns commit:self error:error]) return NO;
  NSString *shown = [[units bind:ns error:error] get:error];
  NSString *number = [[plantings bind:ns error:error] add:[MobileNewRecord() setText:@"crop" x:shown] error:error];
  [watching stop];
  return number != nil && [ns close:error];
}

- (BOOL)join:(NSString *)link keys:(MobileKeys *)keys error:(NSError **)error {
  BoardsBoard *board = BoardsJoin(link, keys, [BoardsNewOptions() clientName:@"tankwatch"], error);
  BoardsCall *call = BoardsNewCall();
  int64_t sum;
  if (![[board intVar:reminderHour error:error] add:call n:-10 ret0_:&sum error:error]) return NO;
  [call giveUp];
  return [board close:error];
}

@end
